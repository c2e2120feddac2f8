"""Scenes: survey, render request, decisions and staging plan, the same for every format."""
