"""Running under a limit of address space, as a shell sets it."""

from __future__ import annotations

import os

LEAST_MEGABYTES = 700
"""With less, some of the packages it rests on cannot be loaded, and others try again without end."""


def ask_as_needed() -> None:
    """Where the address space is limited, let Arrow ask for memory as it is needed.

    By default it reserves a gigabyte at its first use. Under a limit into which that just fits, linear algebra that is loaded
    afterwards finds no room, and tries again without end.
    """
    if allowed_megabytes() is not None:
        os.environ.setdefault("ARROW_DEFAULT_MEMORY_POOL", "system")


def allowed_megabytes() -> float | None:
    """Return how much address space this process may take; None for as much as there is."""
    try:
        import resource
    except ImportError:  # a system without such limits
        return None
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    return None if limit == resource.RLIM_INFINITY else limit / 2**20
