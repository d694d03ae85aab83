"""What USD says of shapes as bytes, for digests."""

from __future__ import annotations

_PLAIN = frozenset({str, bool, int, float, type(None)})


def told(*values: object) -> bytes:
    """Values of USD: numbers, words, arrays of numbers, and tuples of all that."""
    words: list[object] = []
    arrays: list[bytes] = []
    _tell(values, words, arrays)
    return b"".join((repr(words).encode(), *arrays))


def _tell(values: tuple[object, ...], words: list[object], arrays: list[bytes]) -> None:
    words.append(len(values))
    for value in values:
        if type(value) in _PLAIN:
            words.append(value)
        elif isinstance(value, tuple):
            _tell(value, words, arrays)
        else:
            try:
                held = memoryview(value)  # type: ignore[arg-type]
            except TypeError:  # words, where numbers are meant
                words.append(repr(value))
                continue
            words.append((held.format, held.shape))
            arrays.append(held.tobytes())
