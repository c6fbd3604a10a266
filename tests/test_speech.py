"""Speech from text and sound: what is said when, and a mouth that says it."""

import json
import shutil
import subprocess
from fractions import Fraction
from functools import cache
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
import soundfile
import soxr

import fairswap
from conftest import need
from fairswap.face.speech.aligning import phones_in_recording
from fairswap.face.speech.phones import is_vowel, viseme_of
from fairswap.face.speech.recording import Recording, read_recording
from fairswap.face.speech.speaking import speech_of
from fairswap.face.speech.spelling import phones_by_letters
from fairswap.face.speech.timing import phones_in_time
from fairswap.face.speech.words import Pronunciation, table_of_words
from fairswap.face.units import INDEX
from fairswap.model.rotation import angle_between
from making import TROUPE, run

LINE = "Lamps are burning, come and buy! My friends, the river runs past the mill."


@pytest.fixture
def espeak():
    """A voice, on machines that have one."""
    need("espeak-ng", shutil.which("espeak-ng") is not None)


@cache
def voice(text, rate=140):
    """A voice ``(samples,)`` at 22,050 a second, without the silence around it."""
    said = subprocess.run(["espeak-ng", "-s", str(rate), "--stdout", text], capture_output=True, check=True).stdout
    Path("voice.wav").write_bytes(said)
    samples, _ = soundfile.read("voice.wav")
    loud = np.flatnonzero(np.abs(samples) > 0.02)
    return samples[loud[0] : loud[-1]]


def in_a_row(words, apart_s=0.4, rate=22_050):
    """Words one after the other with silence between them, and when each begins and ends."""
    parts, times, now = [np.zeros(int(apart_s * rate))], [], apart_s
    for word in words:
        sound = voice(word)
        times.append((now, now + len(sound) / rate))
        parts += [sound, np.zeros(int(apart_s * rate))]
        now += len(sound) / rate + apart_s
    return np.concatenate(parts), np.array(times)


def words_of(phones, words):
    """When each word begins and ends, of phones in time."""
    spoken, out, at = [row for row in phones if row.viseme], [], 0
    for word in words:
        mine = spoken[at : at + len(word.phones)]
        out.append((mine[0].start_s, mine[-1].stop_s))
        at += len(word.phones)
    assert at == len(spoken)
    return np.array(out)


def weights(path):
    document = fairswap.load(path)
    mesh = document.figure.meshes[document.clips[0].poses.morph_tracks[0].mesh]
    return dict(zip(mesh.morph_names, document.clips[0].poses.morph_tracks[0].weights, strict=True))


def test_words_become_phones_by_the_first_that_knows_them(tmp_path, monkeypatch):
    monkeypatch.setattr(shutil, "which", lambda _: None)
    own = tmp_path / "words.csv"
    own.write_text("word;phones\nLamps;m ɑː m\n", encoding="utf-8")
    asked = Pronunciation(own=table_of_words(own))
    found = {word.text: (word.phones, word.stop) for word in asked.words("Lamps are “burning” – brumthick, 42!")}
    assert found == {
        "Lamps": (("m", "ɑː", "m"), ""), "are": (("AA", "R"), ""), "burning": (("B", "ER", "N", "IH", "NG"), ","),
        "brumthick": (("B", "R", "AH", "M", "TH", "IH", "K"), ","),
    }  # fmt: skip
    told = {row.code: row.message for row in asked.findings}
    assert "'brumthick'" in told["word-guessed"]
    assert "'42'" in told["word-left-out"]
    with pytest.raises(fairswap.UsageError, match="no dictionary for the language 'de'"):
        Pronunciation("de").words("guten Morgen")


def test_letters_alone_say_what_a_mouth_needs():
    """Against the dictionary: most words have their visemes, though not the phones."""
    words = "lamp river friend market bridge mother window fish table open people water shop five"
    known = Pronunciation().words(words)
    right = 0.0
    for word in known:
        mine = [viseme_of(phone) for phone in phones_by_letters(word.text)]
        theirs = [viseme_of(phone) for phone in word.phones]
        right += len(set(mine) & set(theirs)) / len(set(theirs)) / len(known)
        lips = {"viseme_pbm", "viseme_fv"}
        assert set(mine) & lips == set(theirs) & lips, word.text
    assert right > 0.75


def test_a_text_is_timed_by_rules():
    words = Pronunciation().words(LINE)
    phones = phones_in_time(words)
    gaps = np.array([after.start_s - before.stop_s for before, after in pairwise(phones)])
    assert np.abs(gaps).max() < 1e-9
    pauses = [row.stop_s - row.start_s for row in phones if not row.viseme]
    assert len(pauses) == 3
    assert np.argmax(pauses) == 1  # after the exclamation mark
    vowels = sum(is_vowel(row) for row in phones)
    assert 3.0 < vowels / phones[-1].stop_s < 6.0  # syllables a second, as people speak
    twice = phones_in_time(words, 2.0)
    assert np.isclose(twice[-1].stop_s - 0.15, (phones[-1].stop_s - 0.15) / 2)


def test_a_spoken_text_shuts_the_lips_where_it_must():
    report = json.loads(
        run("face", "apply", "--text", LINE, "--onto", TROUPE / "pip.glb", "-o", "o.glb", "--json").stdout
    )
    assert report["clips"][0]["name"] == "Lamps are burning, come"
    face = weights("o.glb")
    phones = speech_of(None, fairswap.face.SpeechOptions(text=LINE)).phones
    shut = [row for row in phones if row.viseme == "viseme_pbm"]
    assert len(shut) == 8
    for row in shut:
        frames = slice(round(row.start_s * 60), round(row.stop_s * 60) + 1)
        assert face["say mm"][frames].max() > 0.9, row
        assert face["say ah"][frames].min() < 0.1, row
    assert max(face["say ah"].max(), face["say oh"].max()) > 0.5


def test_blinks_and_nods_come_on_request_only():
    plain = fairswap.face.apply(None, TROUPE / "juniper.glb", speech=fairswap.face.SpeechOptions(LINE))
    lively = fairswap.face.apply(
        None, TROUPE / "juniper.glb", speech=fairswap.face.SpeechOptions(LINE, blinks=True, nods=True)
    )
    again = fairswap.face.apply(
        None, TROUPE / "juniper.glb", speech=fairswap.face.SpeechOptions(LINE, blinks=True, nods=True)
    )
    head = lively.head
    lids = [head.units(done.clips[0])[INDEX["eye_closure_left"]] for done in (plain, lively, again)]
    assert lids[0].max() < 0.05
    assert np.array_equal(lids[1], lids[2])
    shut = lids[1] > 0.95
    blinks = np.count_nonzero(np.diff(shut.astype(int)) == 1)
    assert 1 <= blinks <= 4
    assert shut.sum() <= 10 * blinks
    bone = head.roles.bones["head"]
    turned = [
        np.degrees(angle_between(done.clips[0].poses.rotations[:, bone], head.figure.skeleton.rest_rotations[bone]))
        for done in (plain, lively)
    ]
    assert turned[0].max() < 1e-3
    assert 1.5 < turned[1].max() < 4.0
    world = lively.clips[0].poses.world()
    nose = world.rotations[:, bone]
    ahead = fairswap_rotate(
        nose, fairswap_rotate(conjugated(head.figure.skeleton.rest.rotations[0, bone]), [0, 0, 1.0])
    )
    assert ahead[np.argmax(turned[1]), 1] < -0.02  # down, not up


def conjugated(q):
    return np.asarray(q) * [-1, -1, -1, 1]


def fairswap_rotate(q, v):
    """Turn vectors by quaternions, in other words than the library's."""
    q, v = np.broadcast_arrays(np.atleast_2d(q), np.zeros(4))[0], np.atleast_2d(v)
    axis = q[:, :3]
    return v + 2 * np.cross(axis, np.cross(axis, v) + q[:, 3:] * v)


@pytest.mark.usefixtures("espeak")
def test_words_are_found_where_they_are_said():
    words = ["lamps", "burning", "river", "buy", "market", "friends"]
    sound, times = in_a_row(words)
    spoken = Pronunciation().words(" ".join(words))
    for rate, channels in ((22_050, 1), (48_000, 2), (16_000, 1)):
        heard = soxr.resample(sound, 22_050, rate)
        soundfile.write("row.wav", np.stack([heard] * channels, axis=1) * 0.2, rate)
        phones, doubts = phones_in_recording(spoken, read_recording("row.wav"))
        found = words_of(phones, spoken)
        assert np.abs(found - times).max() < 0.12, rate
        assert np.median(np.abs(found - times)) < 0.05, rate
        assert not doubts
        assert all(a.stop_s <= b.start_s + 1e-6 for a, b in pairwise(phones))


@pytest.mark.usefixtures("espeak")
def test_a_later_voice_moves_the_mouth_later_and_a_quiet_one_less():
    sound = voice("come and buy my hot lamps")
    rate = 22_050
    options = fairswap.face.SpeechOptions("come and buy my hot lamps")
    mouths = {}
    for name, samples in {
        "now": sound, "late": np.concatenate([np.zeros(rate // 2), sound]),
        "fading": sound * np.linspace(1.0, 0.02, len(sound)),
    }.items():  # fmt: skip
        soundfile.write(f"{name}.flac", samples, rate)
        mouths[name] = speech_of(f"{name}.flac", options).units(Fraction(60))[INDEX["jaw_drop"]]
    # Where the jaw falls, it does half a second later.
    tops = [np.argmax(mouths[name]) / 60 for name in ("now", "late")]
    assert abs(tops[1] - tops[0] - 0.5) < 0.06
    # What is said at the end ("hot lamps") opens the mouth by far less.
    tail = -len(mouths["now"]) // 3
    assert mouths["fading"][tail:].max() < 0.75 * mouths["now"][tail:].max()


@pytest.mark.usefixtures("espeak")
def test_words_that_are_not_said_are_told():
    said = ["my", "friends", "the", "river", "runs", "past", "the", "mill"]
    soundfile.write("said.wav", voice(" ".join(said)), 22_050)
    for text in (
        "never were these said but still",
        "seven foxes ran around the town",
        "the mill past runs river the friends my",
    ):
        with pytest.raises(fairswap.ImpossibleError, match="not what is said"):
            speech_of("said.wav", fairswap.face.SpeechOptions(text))
    short = speech_of("said.wav", fairswap.face.SpeechOptions("my friends"))
    assert any("but no word" in row.message for row in short.findings)
    assert not speech_of("said.wav", fairswap.face.SpeechOptions(" ".join(said))).findings
    soundfile.write("said.wav", soxr.resample(voice(" ".join(said)), 22_050, 8_000), 8_000)
    narrow = speech_of("said.wav", fairswap.face.SpeechOptions(" ".join(said)))
    assert "sound-narrow" in [row.code for row in narrow.findings]


@pytest.mark.usefixtures("espeak")
def test_other_languages_are_spoken_by_their_phones():
    speech = speech_of(None, fairswap.face.SpeechOptions("Guten Morgen, Bücher bitte", language="de"))
    visemes = [row.viseme for row in speech.phones]
    assert visemes.count("viseme_pbm") == 3
    assert "viseme_u" in visemes or "viseme_i" in visemes
    assert any(not row.viseme for row in speech.phones)
    with pytest.raises(fairswap.UsageError, match="no language 'qqq'"):
        speech_of(None, fairswap.face.SpeechOptions("guten", language="qqq"))
    soundfile.write("de.wav", voice("my friends"), 22_050)
    foreign = speech_of("de.wav", fairswap.face.SpeechOptions("mai frends", language="de"))
    assert [row.code for row in foreign.findings] == ["text-foreign"]


def test_loudness_is_told_by_the_loud_parts():
    samples = np.concatenate([np.full(8000, 0.5), np.zeros(8000), np.full(8000, 0.25)]) * np.tile([1.0, -1.0], 12_000)
    assert np.allclose(Recording(samples).loudness(np.array([0.25, 0.75, 1.25])), [1.0, 0.0, 0.5], atol=0.02)


def written(name, samples, rate=16_000, **how):
    soundfile.write(name, samples, rate, **how)
    return name


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: written("a.wav", np.zeros(16_000)), "it is silent"),
        (lambda: written("a.wav", np.zeros((0, 1))), "no sound in it"),
        (lambda: written("a.wav", np.full(210, 0.5) * np.tile([1, -1], 105)), "it lasts 0.013 s"),
        (lambda: written("a.wav", np.array([0.1, np.nan] * 8000), subtype="FLOAT"), "not numbers"),
        (lambda: written("a.wav", np.zeros(8000 * 601), 8000, subtype="PCM_U8"), "at most 600 s"),
        (lambda: Path("a.wav").write_bytes(b"RIFF\x00\x00"), "cannot be read as sound"),
        (lambda: Path("a.wav").write_text("hello"), "cannot be read as sound"),
        (lambda: None, "a.wav: there is no such file. Check the name and the folder"),
    ],
)
def test_sound_that_is_none_says_so(make, says):
    make()
    done = run("face", "apply", "a.wav", "--text", "hello", "--onto", TROUPE / "pip.glb", "-o", "o.glb")
    assert done.returncode == 3
    assert says in " ".join(done.stderr.split())
    assert not Path("o.glb").exists()


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        ([], "nothing to put on the face"),
        (["--text", " ... "], "the text has no words"),
        (["--text", "word " * 5000], "at most 20000"),
        (["text.txt", "--text", "twice"], "given twice"),
        (["table.csv", "--text", "both"], "goes with a recording, or alone"),
        (["--text", "hi", "--words", "bad.csv"], "'qq7' is not a phone we know"),
        (["--text", "hi", "--words", "double.csv"], "'hi' is there twice"),
        (["--text", "hi", "--words", "columns.csv"], "word and phones are missing"),
        (["--text", "hi", "--language", "../x"], "is not a language"),
    ],
)
def test_what_cannot_be_said_says_so(arguments, says):
    Path("text.txt").write_text("Lamps!")
    Path("table.csv").write_text("start,end,phone\n0,1,m\n")
    Path("bad.csv").write_text("word,phones\nhi,qq7\n")
    Path("double.csv").write_text("word,phones\nhi,h aɪ\nHi,h iː\n", encoding="utf-8")
    Path("columns.csv").write_text("name,sounds\nhi,h\n")
    done = run("face", "apply", *arguments, "--onto", TROUPE / "pip.glb", "-o", "o.glb")
    assert done.returncode != 0
    assert says in " ".join(done.stderr.split())
    assert not Path("o.glb").exists()


def test_a_text_file_is_spoken():
    Path("line.txt").write_text("Mama, papa!", encoding="utf-8")
    assert run("face", "apply", "line.txt", "--onto", TROUPE / "pip.glb", "-o", "o.glb").returncode == 0
    assert fairswap.load("o.glb").clips[0].name == "line"
    shut = weights("o.glb")["say mm"] > 0.9
    assert np.count_nonzero(np.diff(shut.astype(int)) == 1) == 4
