"""What one studio adds to tidy-crate."""
