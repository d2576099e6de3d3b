"""The long questions about a network, one module each."""
