"""Traffic that was really there: records of it, folded into conversations, and judged by the network."""
