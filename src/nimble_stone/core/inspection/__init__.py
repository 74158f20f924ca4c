"""Looking inside a bare machine before anything is designed for it: the job that a medium carries,
and the report that comes back. Pure.
"""
