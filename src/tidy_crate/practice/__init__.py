"""To practise on: a simulated farm, a small renderer and a demo scene."""
