"""A job's life: sent, tracked, its frames brought home, reviewed, and rendered again where needed."""
