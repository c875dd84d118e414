"""Files whose items lead from one to the next, and those that have nothing but their ends."""
