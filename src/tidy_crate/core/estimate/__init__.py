"""What a job will cost and take: test frames, timing model, price models, the farm simulated."""
