"""The network of a guest: what each system that sets addresses has stored, as profiles in one form, and what is loaded."""
