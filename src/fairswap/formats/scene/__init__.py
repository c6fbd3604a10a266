"""What all formats of scenes share: polygons cut to triangles, and a scene built up as a glTF document.

One reader finds figures in nodes, meshes and skins, for every format: what is learned from one kind of file holds for
all. So the reader of another format makes a glTF document of its file, in memory, and hands that on.
"""
