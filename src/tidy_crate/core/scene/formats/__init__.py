"""Scene formats: an interface, and a module or package per format, registered by entry points."""
