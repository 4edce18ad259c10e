"""The command line: thin. A command parses, calls one public function, renders, exits."""
