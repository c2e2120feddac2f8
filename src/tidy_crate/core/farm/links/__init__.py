"""Links: an interface, and a module per way to reach a farm."""
