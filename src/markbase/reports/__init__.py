"""Reports: what an analysis says, its tables and its figures, brought together in one page that stands by itself."""
