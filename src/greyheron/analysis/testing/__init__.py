"""Test flows: the book, what is expected, many at once, made of others, and sent."""
