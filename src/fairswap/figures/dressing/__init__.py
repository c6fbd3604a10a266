"""Clothes: brought over from another body, joined with the bones, and kept from passing through the skin."""
