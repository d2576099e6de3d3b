"""Proofs: requirements answered for every packet they speak of (2-semantics §10)."""
