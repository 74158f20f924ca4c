"""Carries a sequence out, durably: journal, observe → act → confirm, undo, limits, waits, holds,
retries.
"""
