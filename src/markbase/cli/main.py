"""The `markbase` command. Each subcommand is a module of its own, loaded when it is called."""

from __future__ import annotations

import importlib
import os
import sys
from collections.abc import Sequence

import click

from markbase import __version__
from markbase.cli.progress import report_progress
from markbase.core.errors import MarkbaseError, near

_COMMANDS = {
    "demo": "Copy the made-up choir survey into a folder and run the example on it.",
    "fit": "Fit a linear or logistic regression against chosen bases.",
    "predict": "Fit, and predict for profiles.",
    "prepare": "Carry out preparing steps, verify them, and write the result.",
    "run": "Carry out a plan, and write report, tables and figures.",
    "start": "Draft a plan from a data file, with the guesses marked.",
    "screen": "Screen predictors: correlations, variance inflation, exact collinearity.",
    "look": "Show what is in a data file, or in one column of it.",
}


class _Commands(click.Group):
    """Subcommands by name; listing them loads none."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002 - click's signature
        return sorted(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in _COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"markbase.cli.{cmd_name}").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:  # noqa: ARG002
        with formatter.section("Commands"):
            formatter.write_dl(sorted(_COMMANDS.items()))

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in _COMMANDS and not args[0].startswith("-"):
            raise click.UsageError(f"There is no command `{args[0]}`.{near(args[0], sorted(_COMMANDS))}")
        return super().resolve_command(ctx, args)


@click.command(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="markbase")
def markbase() -> None:
    """Regression for coded survey data, every group compared against a base you chose.

    Begin with `markbase demo`, or with `markbase look FILE`.
    """


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the command and leave with 0 (done), 2 (the user can mend it) or 1 (a defect of ours).

    Parameters
    ----------
    arguments : sequence of str, optional
        What stands behind the command's name; by default what was typed.
    """
    for stream in (sys.stdout, sys.stderr):
        if (stream.encoding or "").lower().replace("-", "") != "utf8" and hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8")
    sys.exit(_run(arguments))


def _run(arguments: Sequence[str] | None) -> int:
    try:
        markbase.main(args=None if arguments is None else list(arguments), prog_name="markbase", standalone_mode=False)
    except MarkbaseError as problem:
        return _complain(str(problem), 2)
    except click.exceptions.NoArgsIsHelpError as problem:
        click.echo(problem.ctx.get_help() if problem.ctx else "")
    except click.ClickException as problem:
        context = getattr(problem, "ctx", None)
        path = context.command_path if context else "markbase"
        return _complain(f"{problem.format_message()} `{path} --help` lists what there is.", 2)
    except (click.Abort, KeyboardInterrupt):
        return _complain("stopped; nothing was written.", 130)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    except Exception as defect:
        if os.environ.get("MARKBASE_TRACEBACK"):
            raise
        return _complain(
            f"a defect of ours ({type(defect).__name__}: {defect}); please report it with the command you typed. "
            f"Setting MARKBASE_TRACEBACK=1 shows where it arose.",
            1,
        )
    return 0


def _complain(message: str, code: int) -> int:
    report_progress(f"markbase: {message}")
    return code
