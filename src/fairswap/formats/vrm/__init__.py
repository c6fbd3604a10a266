"""VRM, the open avatar standard on glTF: avatars (``.vrm``) and their motions (``.vrma``).

The glTF reader reads both; what is here is what VRM says beside: which bone is which, terms of use, expressions, gaze,
first person, swinging bones, constraints.
"""
