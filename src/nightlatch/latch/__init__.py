"""Changes on guests: applied so that they can be taken back, byte for byte."""
