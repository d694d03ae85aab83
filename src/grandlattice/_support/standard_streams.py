"""Standard input, output and error: what to do where a process was begun without them."""

from __future__ import annotations

import os
import sys


def ensure_standard_streams() -> None:
    """See that the descriptors 0, 1 and 2 are open; one that is not leads nowhere from now on.

    A process that was begun with its standard output closed gives that number to the next file it opens:
    the pipe to a worker, say, into which libraries then print.  What a process begins inherits the numbers,
    so this is called before the first file is opened.
    """
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        try:
            os.fstat(number)
        except OSError:
            nowhere = os.open(os.devnull, os.O_RDWR)  # the lowest number that is free
            if nowhere != number:
                os.dup2(nowhere, number)
                os.close(nowhere)
            os.set_inheritable(number, True)
        if getattr(sys, name) is None:
            setattr(sys, name, open(number, "r" if number == 0 else "w", closefd=False))  # noqa: SIM115
