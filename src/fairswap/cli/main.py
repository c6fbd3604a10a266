"""The ``fairswap`` command: the list of commands, loaded one by one, and what happens to errors."""

from __future__ import annotations

import io
import os
import signal
import sys
import warnings
from collections.abc import Sequence
from importlib import import_module

import click

from fairswap import __version__
from fairswap.cli.examples import with_examples

# Command, its module, and its line in the help: known without importing any of them, so that the help is there at once.
COMMANDS = {
    "demo": ("fairswap.cli.demo", "Write the demo troupe and run the full example on it."),
    "inspect": ("fairswap.cli.inspect", "Take stock of a file: figures, bones, space, rest pose, clips."),
    "convert": ("fairswap.cli.convert", "Carry motions over to another figure. The main job."),
    "compare": ("fairswap.cli.compare", "Compare a result with its source: numbers and a picture."),
    "view": ("fairswap.cli.view", "Play figures and motions in a browser, side by side, in step."),
    "draw": ("fairswap.cli.draw", "Draw a file by itself: a clip as a strip, a figure at rest."),
    "check": ("fairswap.cli.check", "Check files against the limits of a platform."),
    "fit": ("fairswap.cli.fit", "Make a figure and its clips fit a platform."),
    "clip": ("fairswap.cli.clip", "Cut, trim, loop, join, mirror, resample, thin, clean and draw clips."),
    "pose": ("fairswap.cli.pose", "Reference poses: measured, set as the rest pose, saved."),
    "rig": ("fairswap.cli.rig", "Give a bare mesh a skeleton and skin weights."),
    "dress": ("fairswap.cli.dress", "Put clothes made for another body on a figure."),
    "reel": ("fairswap.cli.reel", "A proving clip through every joint of a figure."),
    "bones": ("fairswap.cli.bones", "Which bone is which: bone profiles."),
    "platform": ("fairswap.cli.platform", "Platforms: the limits of a target ecosystem, written down."),
    "plan": ("fairswap.cli.plan", "Many motions onto many figures: a whole job in a file."),
    "face": ("fairswap.cli.face", "Faces: what shapes do, expressions and speech on other heads."),
}
# As BSD's sysexits say it: an error inside the program.
_OUR_FAULT = 70


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        return with_examples(import_module(COMMANDS[name][0]).command, name)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, line) for name, (_, line) in COMMANDS.items()])


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, message="Fair Swap %(version)s")
@click.option("--debug", is_flag=True, help="Show where in the program an unforeseen error came from.")
def command(debug: bool) -> None:
    """Fair Swap: this motion, on that figure, looking the same - and proof that it does.

    Begin with 'fairswap demo', or with 'fairswap inspect FILE' on a file of your own.

    Exit status: 0 done, 1 done but a check found problems, 2 wrong usage, 3 an input cannot be read, 4 cannot be
    done as asked, 70 an error of ours.
    """


def run() -> None:
    """Run the command line and end the process with its status."""
    for number in (signal.SIGINT, signal.SIGTERM, *([signal.SIGHUP] if hasattr(signal, "SIGHUP") else [])):
        if signal.getsignal(number) != signal.SIG_IGN:  # nohup wants it ignored
            signal.signal(number, _stop)
    warnings.simplefilter("ignore")  # of libraries: what matters to the user is found and told by us
    try:
        status = status_of(sys.argv[1:])
    except _Stopped as error:  # just before the work, or just after it
        status = _stopped(error)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)  # all is done: nothing is left to stop
    sys.exit(status)


class _Stopped(BaseException):
    """The user, or the system, wants the process to end: whatever is being written is taken back first."""

    def __init__(self, number: int) -> None:
        self.number = number


def _stop(number: int, frame: object) -> None:
    raise _Stopped(number)


def status_of(arguments: Sequence[str]) -> int:
    """Run the command line; errors become one line on stderr and a status."""
    # Imported here: with --help alone nothing of this is needed, and it is cheap.
    from fairswap.errors import FairSwapError, shortened
    from fairswap.formats.naming import visible

    try:
        status = command.main(list(arguments), prog_name="fairswap", standalone_mode=False)
        return status if isinstance(status, int) else 0
    except click.ClickException as error:
        said = io.StringIO()
        error.show(said)
        click.echo("\n".join(map(visible, said.getvalue().rstrip().split("\n"))), err=True)
        return error.exit_code
    except FairSwapError as error:
        from fairswap.cli.remedies import worded_error

        click.echo(f"fairswap: {visible(worded_error(error))}", err=True)
        return error.exit_status
    except (click.Abort, KeyboardInterrupt, _Stopped) as error:
        return _stopped(error)
    except BrokenPipeError:
        # Whoever read our report has closed it: nothing is wrong, and nothing more can be said there.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        if error.filename is not None:  # a name that the system does not take, seen before the file was used
            name = shortened(os.fsdecode(error.filename), 110)
            click.echo(visible(f"fairswap: {name}: {error.strerror}. Give another name or folder."), err=True)
            return 4
        # All other files are guarded where they are used: this is the report itself.
        click.echo(f"fairswap: the report cannot be written ({error.strerror}). Check where it is sent.", err=True)
        # What is left in the buffer cannot be written at exit either.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 4
    except MemoryError:
        click.echo("fairswap: this machine has too little memory for that file.", err=True)
        return 4
    except Exception as error:  # the outermost net: whatever nobody foresaw
        return _our_fault(error, arguments)


def _stopped(error: BaseException) -> int:
    click.echo("fairswap: stopped; nothing was left half written.", err=True)
    return 128 + int(getattr(error, "number", signal.SIGINT))


def _our_fault(error: Exception, arguments: Sequence[str]) -> int:
    """Say in one sentence that something nobody foresaw is our fault; with --debug also where it came from."""
    from fairswap.formats.naming import visible

    if "--debug" in arguments:
        import traceback

        traceback.print_exception(error)
    doing = " ".join(word for word in arguments if word != "--debug")[:200]
    reason = f"{type(error).__name__}: {error}".splitlines()[0][:160]
    click.echo(
        visible(
            f"fairswap: this is an error of ours, not of your file ({reason}), in 'fairswap {doing}'. Nothing was left "
            "half written. Run it again as 'fairswap --debug …' and send us what it prints, with the file if you may."
        ),
        err=True,
    )
    return _OUR_FAULT
