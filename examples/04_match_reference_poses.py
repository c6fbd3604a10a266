"""How far are the rests of two figures apart? The most common cause of a bad result, in degrees."""

from pathlib import Path

import fairswap

osric, juniper = fairswap.demo_file("osric.glb"), fairswap.demo_file("juniper.glb")
measured = fairswap.pose.measure(osric, juniper)
print(measured)
print(measured.table().round(1).head(12))
Path("poses.png").write_bytes(fairswap.picture.pose(measured, "Osric", "Juniper"))
