"""Evidence in, typed readings out. Pure: no input or output, no clock. Reading never decides and never runs anything."""
