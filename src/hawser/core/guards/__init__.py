"""Filters and kill switches (reckoning section 9): what closes entries, and what is to follow when
it does."""
