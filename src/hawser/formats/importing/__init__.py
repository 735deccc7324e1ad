"""Histories as other programs write them, read into bars."""
