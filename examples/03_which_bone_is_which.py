"""Find out which bone is which, say so in a profile that can be corrected by hand, and look at it."""

from pathlib import Path

import fairswap

figure = fairswap.demo_file("osric.glb")
drafted = fairswap.bones.draft(figure)
print(drafted, "missing:", drafted.missing or "nothing")
print(drafted.save("osric-family.toml", name="osric-family", force=True))

checked = fairswap.bones.check("osric-family.toml", figure)
print(checked)
Path("osric-bones.png").write_bytes(fairswap.picture.bones(checked))
for pair in fairswap.bones.match(figure, fairswap.demo_file("pip.glb")).paired_bones[:5]:
    print(pair)
