"""Text and HTML: takes results, never computes a statistic."""
