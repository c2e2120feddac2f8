"""Cost and duration of a job: test frames, timing model, price models, simulated farm."""
