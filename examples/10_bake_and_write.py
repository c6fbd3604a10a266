"""Plain keys on bones: many motions with their figure in one file, or a motion alone; and what a format leaves out."""

import fairswap

acts = [fairswap.demo_motion(name, by="Osric") for name in ("walk", "clap")]
baked = fairswap.convert(acts, fairswap.demo_file("pip.glb"))
print("together:", *baked.save("pip-acts.glb", force=True))

pip = fairswap.load("pip-acts.glb")
for clip in pip.clips:
    print("alone:", *fairswap.save(f"pip-{clip.name}.bvh", pip.figure, [clip], force=True))
for suffix in (".bvh", ".dae", ".x3d"):
    left = [finding.message for finding in fairswap.left_out(pip.figure, pip.clips, suffix)]
    print(suffix, "leaves out:", *(left or ["nothing"]))
