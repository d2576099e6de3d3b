"""Findings: what is wrong or doubtful in a network, each with its evidence."""
