"""Carrying body motion from one figure to another, and measuring how alike the two look."""
