"""Motion transfer: from one rigged figure to another."""
