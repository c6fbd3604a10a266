"""Which bone is which: roles, and profiles that say which bone of an ecosystem fills which role."""
