"""The vocabulary of work: render request, task, attempt, product."""
