"""What people look at: sheets drawn from figures and clips. Uses the core, never the reverse."""
