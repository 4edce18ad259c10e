"""Exact sets of addresses, and the texts that name them."""
