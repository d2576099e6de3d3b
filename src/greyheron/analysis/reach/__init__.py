"""Reach: who can talk to whom about which services."""
