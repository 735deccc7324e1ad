"""Guards that count, one kind a file (reckoning section 9)."""
