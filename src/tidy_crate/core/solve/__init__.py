"""Solvers: laws of motion on plain numbers, with no scene behind them."""
