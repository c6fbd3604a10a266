"""Cut a take, take out the cycle so that it loops, and name every clip."""

import fairswap

take = fairswap.demo_motion("turn-and-bow")
cuts = fairswap.clips.cut(take.clips[0], ["turn=0..240f", "bow=3.9..8.5"])
for clip in cuts.clips:
    print(clip)

walk = fairswap.demo_motion("walk").clips[0]
cycle = fairswap.clips.loop(walk, travel="removed")
print(cycle.clip, f"seam {cycle.seam.degrees:.3f} degrees")
named = fairswap.clips.rename([cycle.clip], "walk-cycle")
print(*fairswap.save("juniper-clips.glb", take.figure, [*cuts.clips, *named], force=True))
