"""The main job: a motion of one figure on another, with the proof that it looks the same; then a correction on top."""

from pathlib import Path

import fairswap

walk = fairswap.demo_motion("walk", by="Osric")  # or the name of a file
made = fairswap.convert(walk, fairswap.demo_file("juniper.glb"))
print(*made.save("juniper-walk.glb", force=True))

proof = made.comparisons[0]
print(proof)
print(proof.table()[["role", "mean_degrees", "worst_degrees"]].sort_values("worst_degrees").tail(6).round(2))
Path("juniper-walk.png").write_bytes(fairswap.picture.sheet(proof))

# A constant correction stays apart from the motion: without the file, the walk is as it was.
Path("chin-up.toml").write_text("""fairswap = "layers/1"
[[layer]]
name = "chin up"
role = "head"
turn = [-8, 0, 0]     # degrees about left, up and ahead
""")
corrected = fairswap.convert(walk, "juniper-walk.glb", motion=fairswap.MotionOptions(layers="chin-up.toml"))
print(corrected)
