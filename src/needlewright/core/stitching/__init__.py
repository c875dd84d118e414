"""Putting pieces together: pool, solver and claims, and one module a way to join."""
