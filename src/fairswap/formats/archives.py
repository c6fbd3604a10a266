"""Archives (ZIP) from strangers: named parts, never written to disk, of bounded number and size."""

from __future__ import annotations

import zipfile
import zlib
from collections.abc import Iterable, Mapping
from io import BytesIO
from pathlib import PurePosixPath

from fairswap.errors import InputError
from fairswap.formats.limits import MOST_PARTS, UNPACKED_A_BYTE, UNPACKED_BYTES
from fairswap.formats.storage import Chunk

_AGAIN = "Pack or export the file again"
# ZIP holds a date for each part: the first it can hold, so that the same parts make the same bytes.
_NO_DATE = (1980, 1, 1, 0, 0, 0)


def parts_from_archive(content: bytes) -> dict[str, bytes]:
    """The parts of an archive by name, in its order.

    Raises
    ------
    InputError
        If it is no archive, is damaged or locked, or would unpack to far more than its own size.
    """
    try:
        with zipfile.ZipFile(BytesIO(content)) as archive:
            rows = [row for row in archive.infolist() if not row.is_dir()]
            most = UNPACKED_BYTES + UNPACKED_A_BYTE * len(content)
            if len(rows) > MOST_PARTS or sum(row.file_size for row in rows) > most:
                size = sum(row.file_size for row in rows) >> 20
                problem = f"the archive holds {len(rows)} parts of {size} MiB, far more than its own size allows"
                raise InputError(problem, remedy="Pack it again with the figure alone")
            return {row.filename: _part(archive, row) for row in rows}
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError, ValueError):
        raise InputError("the archive is damaged, or locked", remedy=_AGAIN) from None


def _part(archive: zipfile.ZipFile, row: zipfile.ZipInfo) -> bytes:
    with archive.open(row) as file:
        # Never more than was declared, whatever its data says.
        return file.read(row.file_size)


def part_named(parts: Mapping[str, bytes], name: str, beside: str = "") -> bytes | None:
    """A part by its path, as it is named from another part; None if it is not there."""
    folder = PurePosixPath(beside).parent
    steps: list[str] = []
    for step in (folder / name.replace("\\", "/")).parts:
        if step == "..":
            if not steps:
                return None
            steps.pop()
        elif step != ".":
            steps.append(step)
    return parts.get("/".join(steps))


def archive_of(parts: Iterable[tuple[str, Chunk]], *, align: int = 1) -> bytes:
    """An archive of parts; with ``align``, unpacked ones that begin at multiples of so many bytes, as USDZ asks."""
    out = BytesIO()
    with zipfile.ZipFile(out, "w", compresslevel=3) as archive:
        for name, data in parts:
            row = zipfile.ZipInfo(name, _NO_DATE)
            row.compress_type = zipfile.ZIP_STORED if align > 1 else zipfile.ZIP_DEFLATED
            if align > 1:
                start = out.tell() + 30 + len(name.encode())
                padding = -start % align
                padding += align if 0 < padding < 4 else 0
                # A field of no meaning, whose own head takes four bytes (APPNOTE 4.5).
                if padding:
                    row.extra = b"\x86\x19" + (padding - 4).to_bytes(2, "little") + bytes(padding - 4)
            archive.writestr(row, bytes(data))
    return out.getvalue()
