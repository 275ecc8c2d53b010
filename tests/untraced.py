"""Where coverage need not look: what runs no line of ours, and is three to four times as slow when every call is followed."""

import functools
import sys


def untraced(function):
    """Run a function without whatever follows the calls in it."""

    @functools.wraps(function)
    def called(*args, **kwargs):
        tracer = sys.gettrace()
        sys.settrace(None)
        try:
            return function(*args, **kwargs)
        finally:
            sys.settrace(tracer)

    return called
