"""Files and the paths that name them: dialects, sequences, resolving, searching."""
