"""The judge: how alike two motions look. It knows nothing of how a motion was carried over."""
