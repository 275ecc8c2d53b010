"""Mark Base."""
