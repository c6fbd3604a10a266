"""Where the travel goes: left on the hips, on the root bone, or taken out so that a cycle stays on the spot."""

import fairswap

walk, pip = fairswap.demo_motion("walk"), fairswap.demo_file("pip.glb")
for travel in ("hips", "root", "none"):
    made = fairswap.convert(walk, pip, motion=fairswap.MotionOptions(travel=travel))
    (file,) = made.save(f"pip-walk-{travel}.glb", force=True)
    written = fairswap.load(file)
    described = fairswap.clips.describe(written.clips[0], written)
    print(f"{travel}: {described}")
