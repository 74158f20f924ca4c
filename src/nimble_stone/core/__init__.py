"""The computation: no I/O, no clock, no randomness, no framework. Everyone may import it."""
