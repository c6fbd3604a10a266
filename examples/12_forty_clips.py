"""Many motions onto many figures, again next month: a plan does only what has changed since."""

from pathlib import Path

import fairswap

for name in ("idle", "clap"):
    act = fairswap.demo_motion(name, by="Osric")
    fairswap.save(f"takes/{name}.bvh", act.figure, act.clips, force=True)
Path("job.toml").write_text(f"""fairswap = "plan/1"
sources = ["takes"]
figures = [{str(fairswap.demo_file("pip.glb"))!r}]
""")
for again in ("first", "again"):
    run = fairswap.run_plan("job.toml", "results")
    print(f"{again}: {run}")
for result in run.results:
    print(result)
