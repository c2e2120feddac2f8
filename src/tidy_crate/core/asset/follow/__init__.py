"""Files that name other files: an interface, and a module per kind, registered by entry points."""
