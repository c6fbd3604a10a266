"""Give a figure another rest pose: its mesh is bound to it anew, and its clips look as before."""

import fairswap

walking = fairswap.demo_motion("walk", by="Pip")
prepared = fairswap.pose.set(walking, "t")
print(prepared)
print(*prepared.save("pip-t.glb", force=True))

# The proof: the walk from the file that was written, held against the walk we began with.
print(fairswap.compare(walking, "pip-t.glb"))
