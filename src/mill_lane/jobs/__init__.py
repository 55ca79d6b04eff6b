"""Services: what can be done with a job.

Each takes a database session (or the home) and typed values and gives typed values back; none knows
a page, a form or a command line.  What cannot be done raises a MillError.
"""
