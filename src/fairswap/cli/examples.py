"""What ``--help`` shows at its end: two examples of each command, with the files of the demo's folder."""

from __future__ import annotations

import click

# By command, without "fairswap" before each; all run in the demo's folder.
EXAMPLES = {
    "demo": ("demo lantern-street", "demo lantern-street --no-pictures --force"),
    "inspect": ("inspect osric-walk.bvh", "inspect juniper.glb --json"),
    "convert": (
        "convert osric-walk.bvh --onto juniper.glb -o walk.glb --picture walk.png",
        "convert juniper-walk.glb --onto pip.glb --platform fernway -o fernway",
    ),
    "compare": (
        "compare osric-walk.bvh juniper-walk.glb",
        "compare juniper-walk.glb osric-walk.bvh --picture swap.png --curves knees.png --curve lower_leg_left",
    ),
    "view": ("view juniper-walk.glb -o walk.html", "view osric-walk.bvh juniper-walk.glb pip-walk.glb -o walks.html"),
    "draw": ("draw juniper-leap.glb -o leap.png", "draw juniper-leap.glb --at 0.5,1.2,2 --shot feet -o soles.png"),
    "check": ("check pip.glb --platform fernway", "check juniper-walk.glb osric.glb --platform quillmoor --all"),
    "fit": (
        "fit juniper-walk.glb --platform fernway -o fitted.glb --picture loss.png",
        "fit osric.glb --platform quillmoor --height 1.7 --triangles 8000 -o small.glb",
    ),
    "clip blend": (
        "clip blend juniper-walk.glb juniper-lamp.glb --part arms -o both.glb",
        "clip blend juniper-walk.glb juniper-idle.glb --part head --from 1 --to 3 --ease 0.4 -o looks.glb",
    ),
    "clip clean": ("clip clean juniper-walk.glb --find", "clip clean juniper-walk.glb --jitter -o clean.glb"),
    "clip cut": (
        "clip cut juniper-walk.glb --piece start=0..1.5 --piece stride=1.5..3 -o pieces.glb",
        "clip cut juniper-leap.glb --piece leap=20f..80f -o leap-alone.glb",
    ),
    "clip describe": ("clip describe juniper-walk.glb", "clip describe juniper-walk.glb --csv bones.csv"),
    "clip draw": (
        "clip draw juniper-walk.glb --role lower_leg_left -o knee.png",
        "clip draw juniper-walk.glb osric-walk.bvh --role foot_left --role foot_right -o feet.png",
    ),
    "clip drop": (
        "clip drop juniper-walk.glb --all -o bare.glb",
        "clip drop juniper-idle.glb --clip pip-idle -o rest.glb",
    ),
    "clip join": (
        "clip join juniper-idle.glb juniper-walk.glb --blend 0.4 -o joined.glb",
        "clip join juniper-walk.glb juniper-walk.glb --match --name march -o march.glb",
    ),
    "clip layer": (
        "clip layer juniper-walk.glb --layer nod.toml -o nods.glb",
        "clip layer juniper-idle.glb --layer nod.toml --clip pip-idle -o idle-nods.glb",
    ),
    "clip loop": ("clip loop juniper-walk.glb --find", "clip loop juniper-walk.glb --travel removed -o loop.glb"),
    "clip mirror": ("clip mirror juniper-lamp.glb -o left-handed.glb", "clip mirror osric-walk.bvh -o other-foot.bvh"),
    "clip place": (
        "clip place juniper-walk.glb --at 0 0 --facing 90 -o aside.glb",
        "clip place juniper-walk.glb --after juniper-idle.glb -o after.glb",
    ),
    "clip rate": ("clip rate juniper-walk.glb --to 60 -o smooth.glb", "clip rate osric-walk.bvh --to 24 -o film.bvh"),
    "clip rename": (
        "clip rename juniper-walk.glb --to stroll -o stroll.glb",
        "clip rename juniper-walk.glb --swap osric=juniper -o named.glb",
    ),
    "clip reverse": ("clip reverse juniper-leap.glb -o back.glb", "clip reverse osric-walk.bvh -o back.bvh"),
    "clip speed": (
        "clip speed juniper-walk.glb --times 1.25 -o brisk.glb",
        "clip speed juniper-idle.glb --lasts 8 -o slow.glb",
    ),
    "clip thin": (
        "clip thin juniper-walk.glb --mm 2 -o light.glb",
        "clip thin juniper-walk.glb --every-frame -o even.glb",
    ),
    "clip trim": (
        "clip trim juniper-walk.glb --from 0.5 --to 4 -o short.glb",
        "clip trim juniper-leap.glb --margin 0.2 -o tight.glb",
    ),
    "pose measure": (
        "pose measure osric.glb",
        "pose measure osric.glb --against juniper.glb --picture poses.png",
    ),
    "pose set": ("pose set osric.glb --to t -o osric-t.glb", "pose set juniper-walk.glb --to a:40 -o juniper-a.glb"),
    "pose save": (
        "pose save pip.glb -o pip-rest.toml",
        "pose save juniper-lamp.glb --pose time:1.5 --part arms -o reach.toml",
    ),
    "rig": (
        "rig osric.glb -o rigged.glb --picture rigged.png",
        "rig pip.glb --skeleton quillmoor -o rigged-pip.glb",
    ),
    "dress": (
        "dress pip.glb --with osric-boots.glb --made-for osric.glb -o booted.glb",
        "dress juniper.glb --with osric-coat.glb --made-for osric.glb --motion juniper-walk.glb -o coat.glb --hide",
    ),
    "reel": ("reel pip.glb -o reel.glb", "reel juniper.glb --picture reel.png -o juniper-reel.glb"),
    "bones draft": (
        "bones draft osric.glb -o osric.toml",
        "bones draft pip.glb --say head=noggin --save-as fernway-kin",
    ),
    "bones check": ("bones check saltglass osric.glb", "bones check quillmoor juniper.glb --picture bones.png"),
    "bones match": ("bones match osric.glb juniper.glb", "bones match juniper.glb pip.glb --json"),
    "bones merge": ("bones merge clothed.glb -o one-skeleton.glb", "bones merge clothed.glb -o one.glb --json"),
    "bones list": ("bones list", "bones list --json"),
    "bones show": ("bones show osric.glb", "bones show quillmoor --picture quillmoor.png"),
    "platform list": ("platform list", "platform list --json"),
    "platform show": ("platform show fernway", "platform show vrm-1 --json"),
    "platform new": ("platform new my-stage -o my-stage.toml", "platform new other -o other.toml --force"),
    "plan new": (
        "plan new juniper-*.glb --onto pip.glb -o job.toml",
        "plan new juniper-walk.glb --onto pip.glb --onto osric.glb --platform fernway -o stages.toml",
    ),
    "plan check": ("plan check job.toml", "plan check job.toml -o results"),
    "plan run": ("plan run job.toml -o results", "plan run job.toml -o results --workers 2"),
    "plan status": ("plan status results", "plan status results --json"),
    "face draft": ("face draft pip.glb -o pip-face.toml", "face draft osric.glb --save-as saltglass-heads"),
    "face check": ("face check pip-face.toml pip.glb", "face check pip-face.toml pip.glb --json"),
    "face match": ("face match juniper.glb pip.glb", "face match juniper.glb osric.glb --json"),
    "face show": ("face show pip.glb -o shapes.png", "face show pip.glb --face pip-face.toml -o pip-shapes.png"),
    "face apply": (
        "face apply juniper-spoken-line.glb --onto pip.glb -o speaks.glb",
        'face apply --text "Good evening" --onto osric.glb -o greets.glb --picture greets.png',
    ),
}


def with_examples(command: click.Command, name: str) -> click.Command:
    """The command, and those below it, with their examples at the end of their help."""
    if isinstance(command, click.Group):
        for below, one in command.commands.items():
            with_examples(one, f"{name} {below}")
    elif name in EXAMPLES:
        command.epilog = "\b\nExamples:\n" + "\n".join(f"  fairswap {words}" for words in EXAMPLES[name])
    return command
