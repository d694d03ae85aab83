"""What a command may take of the machine's memory, found out before anything large is loaded.

A library of others that gets no memory ends the process without a word; so a shell that allows too little
(``ulimit -v``) is refused beforehand, and what still runs out is said as what it is.
"""

from __future__ import annotations

import os

from grandlattice.errors import LatticeError, RunError

# Address space, in GB, measured with two processors; each more of them adds to it.
TO_STEER, TO_PLAN, TO_CHECK, TO_TRACE = 0.2, 1.5, 2.1, 3.0
_EACH_PROCESSOR = 0.1
_SIGNS = ("bad_alloc", "failed to map segment", "annot allocate memory", "Resource temporarily unavailable")


def refuse_little_memory(needed: float) -> None:
    """Refuse to begin where this process may not have the memory it takes.

    Parameters
    ----------
    needed : GB with two processors.

    Raises
    ------
    RunError
        Saying how much it may have, and how much is needed.
    """
    try:
        import resource
    except ImportError:  # a system without such limits
        return
    allowed, _ = resource.getrlimit(resource.RLIMIT_AS)
    needed += _EACH_PROCESSOR * max(0, (os.cpu_count() or 1) - 2)
    if allowed != resource.RLIM_INFINITY and allowed < needed * 1e9:
        raise RunError(
            f"This shell allows {allowed / 1e9:.1f} GB of memory for a process, and this command takes up to "
            f"{needed:.1f} GB of addresses.",
            cure="lift the limit with ulimit -v unlimited, and give the command again",
        )


def is_of_memory(problem: BaseException) -> bool:
    """Whether something failed because there was no memory left for it."""
    return isinstance(problem, MemoryError) or any(sign in str(problem) for sign in _SIGNS)


def out_of_memory() -> LatticeError:
    """What is said then."""
    return RunError(
        "There is no memory left.",
        cure="end other programs, use fewer workers, or allow more (ulimit -v); what is done is kept",
    )
