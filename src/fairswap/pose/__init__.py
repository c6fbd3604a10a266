"""Reference poses: the pose in which two figures count as alike."""
