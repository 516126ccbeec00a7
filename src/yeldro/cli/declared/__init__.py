"""The options and help of each command; the code that carries it out is loaded when it runs."""
