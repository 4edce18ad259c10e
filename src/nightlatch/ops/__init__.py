"""The public verbs, each in a module of its own."""
