"""An estate file from guests: what they grant today, as sentences to be trimmed. Pure."""
