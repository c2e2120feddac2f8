"""Everything the tool computes, with no interface code."""
