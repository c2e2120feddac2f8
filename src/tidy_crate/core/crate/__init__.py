"""The crate: a staged, self-contained copy of a scene, and the proof that it is whole."""
