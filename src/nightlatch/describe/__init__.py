"""From what is to what is meant: what guests grant today, as an estate file to be trimmed. Pure."""
