"""The command line: the same things, the same words, for terminals and scripts."""
