"""Proofs: requirements answered for every packet they speak of (§10)."""
