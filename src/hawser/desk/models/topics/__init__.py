"""What everything on the screens means: one declaration of each thing, for the tip, F1, the finder
and the search."""
