"""Moving file contents to a farm: content-defined chunks, packs of them, and the order in which they are sent."""
