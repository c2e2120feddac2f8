"""One's own machines under a distributed engine (Dask), over shared storage."""
