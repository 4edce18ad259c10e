"""One module per format on disk: parse -> document -> edit -> render. `render(parse(b)) == b` for every byte string.

These modules know grammar only. What a line means for a guest is said in `readings` and `reason`.
"""
