"""What is in a file? Its figures, bones, clips, the space it was in, and everything that is worth a second look."""

import sys

import fairswap

file = sys.argv[1] if len(sys.argv) > 1 else fairswap.demo_file("osric.glb")
found = fairswap.inspect(file)
print(found)
for figure in found.figures:
    print(figure)
for clip in found.clips:
    print(f"{clip.name}: {clip.frames} frames at {clip.rate:g}, {clip.keyed_bones} bones keyed")
for finding in found.findings:
    print(f"{finding.severity}: {finding.message}")
