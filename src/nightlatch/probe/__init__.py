"""Handshakes as machines without I/O, and the one driver that gives them a wire."""
