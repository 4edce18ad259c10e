"""Passwords judged without being kept: what is wrong with one, and how many guesses find it."""
