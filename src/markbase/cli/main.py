"""The `markbase` command. Each subcommand is a module of its own, loaded when it is called."""

from __future__ import annotations

import errno
import gc
import importlib
import os
import sys
from collections.abc import Sequence

import rich_click as click
from click.exceptions import NoArgsIsHelpError

from markbase import __version__
from markbase.cli.help import HELP
from markbase.cli.progress import report_progress
from markbase.cli.wishes import with_wishes
from markbase.core.address_space import LEAST_MEGABYTES, allowed_megabytes
from markbase.core.errors import MarkbaseError, NoRoomError, ThereAlreadyError, near
from markbase.files.whole_files import protecting_inputs

_COMMANDS = {
    "Begin": {
        "demo": "Copy the made-up choir survey into a folder and run the example on it.",
        "look": "Show what is in a data file, or in one column of it.",
        "prepare": "Carry out preparing steps, verify them, and write the result.",
        "indicators": "Turn groups into indicator (dummy) columns and write them.",
        "describe": "Describe the sample, by the levels of a group if wanted (table 1).",
        "start": "Draft a plan from a data file, with the guesses marked.",
    },
    "Screen and fit": {
        "reliability": "Tell how far the items of a scale go together (Cronbach's alpha, omega).",
        "screen": "Screen predictors: correlations, variance inflation, exact collinearity.",
        "fit": "Fit a linear or logistic regression against chosen bases.",
        "blocks": "Enter terms block by block (hierarchical regression).",
    },
    "Read a fit": {
        "groups": "Compare the levels of a group: adjusted means, pairs, planned comparisons.",
        "subgroups": "Fit the same model in each level of a group, and tell whether it differs.",
        "imputations": "Combine the fits of several imputations, or of plausible values.",
        "slopes": "Probe curves and interactions: simple slopes, regions, turning points.",
        "predict": "Predict for profiles, or for every row of a file.",
    },
    "Check and revise": {
        "check": "Residuals and cases; classification and calibration.",
        "validate": "Tell how a model does on rows it has not seen.",
        "compare": "Lay models side by side.",
        "dominance": "Tell which terms or blocks add most over all orders of entry.",
        "eliminate": "Leave out terms that are not clear (backward elimination), with a log.",
    },
    "Carry out": {"run": "Carry out a plan, and write report, tables and figures."},
}
_NO_ROOM = 137
"""Inside: that the memory did not do."""
_NAMES = [name for names in _COMMANDS.values() for name in names]
_WORDS = {
    "describe": "description descriptives table1 means frequencies crosstabulation sample",
    "look": "summary summarise levels missing open show view",
    "prepare": "clean recode merge transform filter derive blank",
    "indicators": "dummy dummies coding code",
    "start": "draft plan",
    "reliability": "alpha cronbach omega mcdonald loadings scale items",
    "screen": "correlate correlation correlations collinearity multicollinearity vif inflation",
    "fit": "regress regression linear logistic logit ols model anova ancova ttest estimate bootstrap coefficients",
    "blocks": "hierarchical block steps",
    "groups": "means contrast contrasts pairs pairwise posthoc adjusted equivalence",
    "subgroups": "subgroup stratified stratify split separate separately within",
    "imputations": "impute imputed imputation mi multiple pool pooled rubin plausible missing",
    "slopes": "slope interaction interactions moderation moderator probe quadratic",
    "predict": "prediction predictions score scores",
    "check": "residuals residual assumptions outliers diagnostics classification calibration influence",
    "validate": "crossvalidate crossvalidation holdout",
    "dominance": "importance",
    "eliminate": "stepwise backward selection",
    "run": "report results execute",
}
"""What a command may be looked for by."""


class _Commands(click.RichGroup):
    """Subcommands by name; listing them loads none."""

    def list_commands(self, ctx: click.Context) -> list[str]:  # noqa: ARG002 - click's signature
        return _NAMES

    listing = False
    """Whether help is being written, which loads no command."""

    def format_help(self, ctx: click.RichContext, formatter: click.RichHelpFormatter) -> None:  # type: ignore[override]
        self.listing = True
        try:
            super().format_help(ctx, formatter)
        finally:
            self.listing = False

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:  # noqa: ARG002
        if cmd_name not in _NAMES:
            return None
        if self.listing:
            told = next(names[cmd_name] for names in _COMMANDS.values() if cmd_name in names)
            return click.Command(cmd_name, help=told)
        command = with_wishes(_loaded(cmd_name))
        if "_MARKBASE_COMPLETE" in os.environ:
            importlib.import_module("markbase.cli.completion").teach(command)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in _NAMES and not args[0].startswith("-"):
            word = args[0].lower().replace("-", "").replace("_", "")
            meant = next((name for name, words in _WORDS.items() if word in words.split()), "")
            hint = f" That is done by `{meant}`." if meant else near(args[0], _NAMES)
            raise click.UsageError(f"There is no command `{args[0]}`.{hint}")
        return super().resolve_command(ctx, args)


def _loaded(name: str) -> click.Command:
    """Load a subcommand. What that brings stays to the end: the collector of garbage would go through it again and again, and find nothing."""
    module = f"markbase.cli.{name}"
    if module in sys.modules or not gc.isenabled():
        command: click.Command = importlib.import_module(module).command
        return command
    gc.disable()
    try:
        command = importlib.import_module(module).command
        gc.freeze()
    finally:
        gc.enable()
    return command


def _panels(group: click.RichGroup) -> click.RichGroup:
    for title, names in _COMMANDS.items():
        group = click.command_panel(title, commands=list(names))(group)
    return group


@_panels
@click.command(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.rich_config(help_config=HELP)
@click.version_option(__version__, prog_name="markbase")
def markbase() -> None:
    """Regression for coded survey data, every group compared against a base you chose.

    Begin with `markbase demo`, or with `markbase look FILE`.
    """


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the command and leave with 0 (done), 2 (the user can mend it) or 1 (a defect of ours)."""
    for name in ("stdout", "stderr"):  # a stream that was closed is None
        if getattr(sys, name) is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: PTH123, SIM115 - kept open to the end
    for stream in (sys.stdout, sys.stderr):
        if (stream.encoding or "").lower().replace("-", "") != "utf8" and hasattr(stream, "reconfigure"):
            stream.reconfigure(encoding="utf-8")
    code = _run(arguments)
    if code == _NO_ROOM:
        code = 2
        if arguments is None:  # threads that found no room may never end, and would be waited for
            for stream in (sys.stdout, sys.stderr):
                stream.flush()
            os._exit(code)
    sys.exit(code)


def _run(arguments: Sequence[str] | None) -> int:
    allowed = allowed_megabytes()
    if allowed is not None and allowed < LEAST_MEGABYTES:
        return _complain(
            f"`ulimit -v` allows {allowed:,.0f} MB of address space, and the packages this rests on need {LEAST_MEGABYTES}.",
            2,
        )
    try:
        with protecting_inputs():
            markbase.main(
                args=None if arguments is None else list(arguments), prog_name="markbase", standalone_mode=False
            )
        sys.stdout.flush()
    except NoRoomError as problem:
        return _complain(f"{str(problem).removesuffix('.')}, or read the rows --in-parts.", _NO_ROOM)
    except ThereAlreadyError as problem:
        return _complain(f"{str(problem).rpartition(', or ')[0]}, or add --replace.", 2)
    except MarkbaseError as problem:
        return _complain(str(problem), 2)
    except NoArgsIsHelpError as problem:
        click.echo(problem.ctx.get_help() if problem.ctx else "")
    except click.ClickException as problem:
        context = getattr(problem, "ctx", None)
        path = context.command_path if context else "markbase"
        return _complain(f"{problem.format_message()} `{path} --help` lists what there is.", 2)
    except (click.Abort, KeyboardInterrupt):
        return _complain("stopped; nothing was written.", 130)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    except ValueError as problem:
        if "null byte" not in str(problem):
            return _defect(problem)
        return _complain("a name that was typed holds a zero byte, which no file has in its name.", 2)
    except OSError as problem:
        if problem.errno not in (errno.ENOSPC, errno.EIO, errno.EDQUOT, errno.EBADF):
            return _defect(problem)
        sys.stdout = open(os.devnull, "w", encoding="utf-8")  # noqa: PTH123, SIM115 - what is left cannot be written
        return _complain(f"the output cannot be written: {(problem.strerror or 'unknown reason').lower()}.", 2)
    except MemoryError:
        return _complain(
            "this needs more memory than is free; read the rows --in-parts, keep fewer columns or rows, or merge levels.",
            2,
        )
    except ImportError as problem:
        if "failed to map" not in str(problem):
            return _defect(problem)
        return _complain("the packages it rests on need more memory than is free, or than `ulimit -v` allows.", 2)
    except Exception as defect:
        return _defect(defect)
    return 0


def _defect(defect: Exception) -> int:
    """Own up to a defect of ours."""
    if os.environ.get("MARKBASE_TRACEBACK"):
        raise defect
    return _complain(
        f"a defect of ours ({type(defect).__name__}: {defect}); please report it with the command you typed. "
        f"Setting MARKBASE_TRACEBACK=1 shows where it arose.",
        1,
    )


def _complain(message: str, code: int) -> int:
    """Say what went wrong, and return the code."""
    report_progress(f"markbase: {message}")
    return code
