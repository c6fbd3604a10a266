"""Travel on a root bone, and a correction kept apart from the motion, so that it can be taken off again."""

from pathlib import Path

import fairswap

Path("fixes.toml").write_text("""fairswap = "layers/1"
[[layer]]
name = "chin up"
role = "head"
turn = [-8, 0, 0]     # degrees about left, up and ahead
""")
motion = fairswap.MotionOptions(travel="root", layers="fixes.toml")
made = fairswap.convert(fairswap.demo_motion("walk"), fairswap.demo_file("pip.glb"), motion=motion)
print(made.done[0])
print(*made.save("pip-walk.glb", force=True))
