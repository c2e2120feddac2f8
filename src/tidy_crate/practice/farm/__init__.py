"""The practice farm: a small HTTP service with simulated nodes that really render what was sent."""
