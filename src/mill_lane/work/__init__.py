"""Long work: the queue, the worker process, and the child process that computes."""
