"""Prepare a figure: put it on the floor under its hips, give it the size and the rest pose that are wanted."""

import fairswap

osric = fairswap.load(fairswap.demo_file("osric.glb"))  # stored with +Z up, in inches: stood up as it is read
print(f"{osric.figure.height_m:.2f} m, {len(osric.figure.skeleton.names)} bones, was: {osric.figure.space}")

placed = fairswap.place(osric, "origin")
sized = fairswap.resize(placed, height_m=1.75)
for finding in sized.findings:
    print(f"{finding.severity}: {finding.message}")

# A T-pose: the mesh is bound to it anew, and clips of the figure would look as before.
prepared = fairswap.pose.set(sized, "t")
print(*prepared.save("osric-prepared.glb", force=True))
print(fairswap.inspect("osric-prepared.glb"))
