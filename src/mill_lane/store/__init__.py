"""What is kept:

jobs, scene versions, trials, runs and tasks in SQLite, and files by the hash of their content.
"""
