"""What the core found, in words."""
