"""Output: text for people, JSON for machines. Renderers get one finished value and compute nothing."""
