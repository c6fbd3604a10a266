"""Speech: text and sound become phones with times, and phones become a mouth that moves."""
