"""Write, then judge the file that was written: reloaded alone, held against its source, drawn."""

from pathlib import Path

import fairswap

source = fairswap.demo_motion("clap")
made = fairswap.convert(source, fairswap.demo_file("osric.glb"), platform="quillmoor")
files = made.save("osric-clap.glb", force=True)

print(fairswap.inspect(files[0]))
proof = fairswap.compare(source, files[0])
print(proof)
Path("clap-curves.png").write_bytes(fairswap.picture.curves(proof))
print("as it should be" if proof.looks_same and fairswap.check(files[0], "quillmoor").fits else "look again")
