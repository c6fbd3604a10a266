"""Sound of a voice: read, checked, and its loudness over time."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from fairswap.errors import InputError, UsageError
from fairswap.formats.storage import read_bytes
from fairswap.model.arrays import Floats

SUFFIXES = (".wav", ".flac", ".ogg", ".aiff", ".aif", ".mp3")
LONGEST_S = 600.0
_SILENT = 1e-3
_HEARD_HZ = 16_000
# Loudness is felt over this long.
_FELT_S = 0.06


@dataclass(frozen=True, eq=False)
class Recording:
    """One channel of sound ``(samples,)`` within -1 to 1, at 16,000 a second, whatever the file had."""

    samples: Floats
    rate_hz: int = _HEARD_HZ
    given_rate_hz: int = _HEARD_HZ

    @property
    def duration_s(self) -> float:
        """How long it is."""
        return len(self.samples) / self.rate_hz

    def loudness(self, times_s: Floats) -> Floats:
        """How loud it is at some times, 1 as loud as its loud parts are."""
        window = max(int(_FELT_S * self.rate_hz), 1)
        power = np.concatenate([[0.0], np.cumsum(np.square(self.samples))])
        at = np.clip((np.asarray(times_s) * self.rate_hz).astype(np.intp), 0, len(self.samples))
        first, last = np.maximum(at - window // 2, 0), np.minimum(at + window // 2 + 1, len(self.samples))
        felt = np.sqrt(np.maximum(power[last] - power[first], 0.0) / np.maximum(last - first, 1))
        whole = np.sqrt(
            np.square(self.samples[: len(self.samples) // window * window]).reshape(-1, window).mean(axis=1)
        )
        return np.asarray(felt / max(float(np.percentile(whole, 95)) if len(whole) else 0.0, 1e-9))


def is_sound(path: str | Path) -> bool:
    """Whether a file is one of sound, by its name."""
    return Path(path).suffix.lower() in SUFFIXES


def read_recording(path: str | Path) -> Recording:
    """Read a file of sound of any rate and number of channels.

    Raises
    ------
    UsageError
        If the packages that read sound are not installed.
    InputError
        If it is not there, no sound, too long, silent, or has numbers that are none.
    """
    try:
        import soundfile
        import soxr
    except ImportError:
        remedy = "Install them: pip install 'fairswap[speech]'"
        raise UsageError("reading sound needs packages that are not installed", remedy=remedy) from None
    content = io.BytesIO(read_bytes(Path(path)))
    try:
        with soundfile.SoundFile(content) as file:
            seconds = file.frames / max(file.samplerate, 1)
            if seconds > LONGEST_S:
                problem = f"it lasts {seconds:.0f} s; at most {LONGEST_S:.0f} s are read"
                raise InputError(problem, file=path, remedy="Cut it into parts")
            rate, channels = file.samplerate, file.read(dtype="float64", always_2d=True)
    except (OSError, RuntimeError, TypeError, ValueError) as error:
        remedy = "Save it as a WAV file again"
        raise InputError(f"it cannot be read as sound ({error})", file=path, remedy=remedy) from None
    if not len(channels):
        raise InputError("there is no sound in it", file=path, remedy="Save it again")
    if not np.isfinite(channels).all():
        raise InputError("it has samples that are not numbers", file=path, remedy="Save it as 16-bit sound again")
    samples = channels.mean(axis=1)
    loudest = float(np.abs(samples - samples.mean()).max())
    if loudest < _SILENT:
        raise InputError("it is silent", file=path, remedy="Export the track that has the voice")
    heard = np.asarray(soxr.resample(samples - samples.mean(), rate, _HEARD_HZ))
    if len(heard) < _HEARD_HZ // 20:
        raise InputError(f"it lasts {len(heard) / _HEARD_HZ:.3f} s", file=path, remedy="Give the whole line")
    return Recording(heard / loudest, given_rate_hz=rate)
