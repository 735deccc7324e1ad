"""The guide and the glossary, as the window reads them: links into `docs/`, so that there is one of
each."""
