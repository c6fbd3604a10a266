"""What each shape of a face does, what becomes of it on another head, and a spoken line carried over."""

from pathlib import Path

import fairswap

pip = fairswap.demo_file("pip.glb")
drafted = fairswap.face.draft(pip)
for name, guess in drafted.guesses.items():
    print(f"{name}: {', '.join(guess.shape.units)} ({guess.confidence:.2f}: {guess.reasons[0]})")
drafted.chart.save("pip-face.toml", force=True)

spoken = fairswap.face.apply(fairswap.demo_motion("spoken line"), pip, target_chart="pip-face.toml")
print(*spoken.save("pip-line.glb", force=True))
Path("pip-line.png").write_bytes(fairswap.picture.moments(spoken.head, spoken.clips[0]))
