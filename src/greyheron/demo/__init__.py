"""The Saltmarsh reserve, our demo network."""
