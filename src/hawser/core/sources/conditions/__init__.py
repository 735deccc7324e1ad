"""Conditions of a source: one module a kind, each with its keys and its two answers at a bar."""
