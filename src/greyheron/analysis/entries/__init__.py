"""Entries of one list against each other: which packets they tell apart, and which of them are needed."""
