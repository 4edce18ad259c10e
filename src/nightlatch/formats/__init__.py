"""One module per format on disk: parse -> document -> edit -> render. `render(parse(b)) == b` for every byte string.

These modules know grammar only. `readings` and `services` say what a line means for a guest.
"""
