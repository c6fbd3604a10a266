"""Rig a bare mesh: its solid, the places of its joints, a skeleton through them, and skin weights."""
