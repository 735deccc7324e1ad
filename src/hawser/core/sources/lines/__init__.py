"""Lines over bars: one module a kind, each with its keys and the way it goes on from bar to bar."""
