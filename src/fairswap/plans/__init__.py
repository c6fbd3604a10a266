"""Plans: a whole job as one file. Many motions on many figures for many platforms, at once, on one machine or on many;
what is done and unchanged is never done twice.

It stands above the pictures, since a run draws its results, too.
"""
