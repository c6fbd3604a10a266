"""Platforms: what a target ecosystem allows; files checked against it, and made to fit."""
