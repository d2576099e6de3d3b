"""What there is in a network: places, facts, differences, completion."""
