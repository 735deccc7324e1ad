"""Signal sources: rules that say when to enter and when to leave early (reckoning section 12)."""
