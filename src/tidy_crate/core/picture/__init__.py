"""One rendered file: decoded and judged."""
