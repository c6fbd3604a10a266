"""Values: skeletons, poses, clips, meshes, figures; checked and frozen when made."""
