"""One module per version of the schema."""
