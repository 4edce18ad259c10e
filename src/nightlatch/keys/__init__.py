"""Key files: what they hold, their forms, and the passphrases on them. Files and chance come from outside."""
