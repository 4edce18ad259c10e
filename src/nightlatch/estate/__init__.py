"""The administrator's own file: who is let into which guest, by what, from where, with what proof."""
