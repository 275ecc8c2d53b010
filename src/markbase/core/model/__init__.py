"""Terms, moments, estimation and tests."""
