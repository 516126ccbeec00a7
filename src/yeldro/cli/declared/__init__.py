"""How each command is called: its options and its help. What it does is loaded when it runs."""
