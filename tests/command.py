"""The command as its users meet it: in this process, or as one of its own."""

import contextlib
import io
import subprocess
import sys
import warnings
from types import SimpleNamespace

import markbase as mb
from markbase.cli.main import main

DATA, BOOK = str(mb.demo.path("choirs.csv")), str(mb.demo.path("choirs.codebook.toml"))
PLAN = str(mb.demo.path("choirs.plan.toml"))
FIT = ["fit", DATA, "--codebook", BOOK, "--outcome", "belonging", "--terms", "age,voice,joined_through"]
STAYS = ["--kind", "logistic", "--outcome", "stays", "--event", "yes", "--terms", "age,voice,rehearsals"]
CHOIRS = [DATA, "--codebook", BOOK, "--base", "voice=alto", "--prepare", 'do = "merge_levels", column = "voice", targets = {tenor = ["tennor"]}']  # fmt: skip


def run(*arguments, cwd=None, stdin=b""):
    """Run the command here, with streams of its own; what a process would add is tested by `run_process`."""
    streams = [io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2)]
    code, given = 0, sys.stdin
    redirected = contextlib.redirect_stdout(streams[0]), contextlib.redirect_stderr(streams[1])
    with contextlib.chdir(cwd or "."), redirected[0], redirected[1], warnings.catch_warnings():
        warnings.simplefilter("default")
        sys.stdin = io.TextIOWrapper(io.BytesIO(stdin), encoding="utf-8")
        try:
            main([str(a) for a in arguments])
        except SystemExit as done:
            code = done.code or 0
        finally:
            sys.stdin = given
    out, err = (stream.buffer.getvalue().decode("utf-8") for stream in streams)
    return SimpleNamespace(returncode=code, stdout=out, stderr=err, args=arguments)


def run_process(*arguments, cwd=None):
    """Run the command as a process."""
    command = [sys.executable, "-m", "markbase", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, cwd=cwd, encoding="utf-8", check=False)
