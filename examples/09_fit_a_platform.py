"""Hold a figure against a platform's demands, make it fit, and see what every change costs."""

from pathlib import Path

import fairswap

walking = fairswap.demo_motion("walk")
print(fairswap.check(fairswap.demo_file("juniper.glb"), "fernway"))

fitted = fairswap.fit(walking, "fernway")
for change in fitted.changes:
    print(f"{change.rule}: {change.what}", change.cost)
for file in fitted.save("on-fernway", force=True):
    print(fairswap.check(file, "fernway"))
Path("loss.png").write_bytes(fairswap.picture.loss(fitted))
