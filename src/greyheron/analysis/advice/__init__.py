"""Advice: where a list would make a requirement hold."""
