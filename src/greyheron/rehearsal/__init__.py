"""Rehearsal: the network of a draft built in a real kernel, and its flows sent as real packets."""
