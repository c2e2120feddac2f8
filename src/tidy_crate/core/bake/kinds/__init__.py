"""The kinds of simulation in a USD scene: how each is found, what it is computed from, and how it is solved."""
