"""What a network is: documents, their notation and their validation."""
