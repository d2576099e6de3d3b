"""What is worked out for networks in use: kept in this process, or by worker processes."""
