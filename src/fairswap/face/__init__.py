"""Faces: units, charts, drafting, solving, bones, speech."""
