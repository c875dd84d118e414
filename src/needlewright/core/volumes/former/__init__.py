"""What former file systems left, one module for each kind."""
