"""Sweeps: from a range to entries that are named by their value.

Numbers, times of day and dates.  Arithmetic is decimal, so that 0 to 1 by 0.1 has eleven values
and none of them is 0.30000000000000004.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation
from typing import Annotated, Any

from pydantic import Field, model_validator

from grandlattice.errors import PlanError
from grandlattice.plan.spelled_values import date_of, time_of
from grandlattice.plan.value_types import Strict, Text, Texts

_MOST = 10_000
_SECONDS = {"s": 1, "min": 60, "h": 3600, "d": 86400, "w": 604800}
_MOST_BETWEEN = 99
_FINEST = Decimal("0.0001")


@dataclass(frozen=True)
class SweepEntry:
    """An entry of a sweep: the padded name that stands in file names, and the value itself."""

    name: str
    value: str


class Sweep(Strict):
    """A range of values."""

    from_: Text = Field(alias="from", description="first value: a number, 08:00 or 2026-06-21")
    to: Text = Field(description="last value")
    step: Text | None = Field(None, description="from one to the next: 10, 0.1, 30min, 1h, 1d")
    count: Annotated[int, Field(ge=1, le=_MOST)] | None = Field(
        None, description="how many values, in place of a step"
    )
    also: Texts = Field(
        default_factory=list, description="further values, which leave the names of the others"
    )

    @model_validator(mode="after")
    def _counts(self) -> Sweep:
        if (self.step is None) == (self.count is None):
            raise ValueError("a sweep needs either a step or a count")
        self.entries()
        return self

    def entries(self) -> list[SweepEntry]:
        """The values from first to last, and those that are said besides in their places among them."""
        every = self._steps()
        known = {entry.value for entry in every}
        for text in self.also:
            entry = _further(text, every[0])
            if entry.value not in known:
                known.add(entry.value)
                every.append(entry)
        down = _place(self.from_) > _place(self.to)
        return sorted(every, key=lambda entry: _place(entry.value), reverse=down) if self.also else every

    def _steps(self) -> list[SweepEntry]:
        if ":" in self.from_:
            first, last = (_seconds_of(text) for text in (self.from_, self.to))
            values = self._values(Decimal(first), Decimal(last))
            if any(value < 0 or value >= 86400 for value in values):
                raise ValueError("a sweep of times stays within one day")
            fine = any(value % 60 for value in values)
            return [_time_entry(int(value), fine) for value in values]
        if re.match(r"\d{4}-\d\d-\d\d", self.from_):
            start, end = date_of(self.from_), date_of(self.to)
            days = self._values(Decimal(0), Decimal((end - start).days * 86400))
            dates = [(start + timedelta(seconds=int(value))).isoformat() for value in days]
            return [SweepEntry(text, text) for text in dict.fromkeys(dates)]
        return _number_entries(self._values(_decimal(self.from_), _decimal(self.to)))

    def _values(self, first: Decimal, last: Decimal) -> list[Decimal]:
        if self.count is not None:
            step = (last - first) / (self.count - 1) if self.count > 1 else Decimal(0)
            return [(first + step * i).quantize(_FINEST) for i in range(self.count)]
        step = _step(str(self.step))
        if step == 0 or (last - first) * step < 0:
            raise ValueError(f"from {self.from_} by {self.step} never reaches {self.to}")
        count = int((last - first) / step) + 1
        if count > _MOST:
            raise ValueError(f"a sweep of {count:,} values is more than {_MOST:,}")
        return [first + step * i for i in range(count)]


def between(first: str, second: str, count: int = 1) -> list[str]:
    """Values between two of a sweep, evenly spaced.

    >>> between("40", "50"), between("08:00", "09:00", 3), between("2026-06-01", "2026-06-08")
    (['45'], ['08:15', '08:30', '08:45'], ['2026-06-05'])

    Raises
    ------
    PlanError
        When there is none.
    """
    low, high = _place(first), _place(second)
    if not 1 <= count <= _MOST_BETWEEN:
        raise PlanError(f"{count} steps between two are none that can be.", cure=f"1 to {_MOST_BETWEEN}")
    places = [low + (high - low) * k / (count + 1) for k in range(1, count + 1)]
    made = [_value_at(place, first) for place in places]
    if len({first, second, *made}) != count + 2:
        raise PlanError(f"There are no {count} values between {first} and {second}.")
    return made


def _place(value: str) -> Decimal:
    """Where a value stands among others of its kind: a number, seconds of a day, days."""
    if ":" in value:
        return Decimal(_seconds_of(value))
    if re.match(r"\d{4}-\d\d-\d\d", value):
        return Decimal(date_of(value).toordinal())
    return _decimal(value)


def _value_at(place: Decimal, like: str) -> str:
    """The value of a place, of the kind of another value."""
    if ":" in like:
        return _time_entry(int(place.to_integral_value(ROUND_HALF_UP)), bool(place % 60)).value
    if re.match(r"\d{4}-\d\d-\d\d", like):
        return date.fromordinal(int(place.to_integral_value(ROUND_HALF_UP))).isoformat()
    return f"{place.quantize(_FINEST).normalize() + 0:f}"


def _further(text: str, first: SweepEntry) -> SweepEntry:
    """The entry of a value that is said besides: named as the others are, with the digits it needs."""
    value = first.value
    if ":" in value:
        seconds = _seconds_of(text)
        return _time_entry(seconds, bool(seconds % 60) or value.count(":") == 2)
    if re.match(r"\d{4}-\d\d-\d\d", value):
        return SweepEntry(date_of(text).isoformat(), date_of(text).isoformat())
    number = _decimal(text).normalize() + 0
    before, after = (len(part) for part in first.name.lstrip("-").partition(".")[::2])
    after = max(after, -int(number.as_tuple().exponent))
    digits = f"{abs(number):0{before + (after + 1 if after else 0)}.{after}f}"
    return SweepEntry(("-" if number < 0 else "") + digits, f"{number:f}")


def _decimal(text: str) -> Decimal:
    try:
        number = Decimal(text.strip())
        if not number.is_finite() or abs(number) > Decimal("1e12") or number.as_tuple().exponent < -9:  # type: ignore[operator]
            raise ValueError
        return number
    except (InvalidOperation, ValueError):
        raise ValueError(f"{text!r} is no number, time (08:00) or date (2026-06-21)") from None


def _step(text: str) -> Decimal:
    parts = re.findall(r"([-+]?\d+(?:\.\d+)?)\s*(s|min|h|d|w)", text)
    if parts and re.fullmatch(r"(\s*[-+]?\d+(\.\d+)?\s*(s|min|h|d|w))+\s*", text):
        return sum((Decimal(number) * _SECONDS[unit] for number, unit in parts), Decimal(0))
    return _decimal(text)


def _seconds_of(text: str) -> int:
    if text.strip() == "24:00":
        return 86400
    clock = time_of(text)
    return clock.hour * 3600 + clock.minute * 60 + clock.second


def _time_entry(seconds: int, fine: bool) -> SweepEntry:
    hours, rest = divmod(seconds, 3600)
    minutes, left = divmod(rest, 60)
    parts = [hours, minutes, left] if fine else [hours, minutes]
    texts = [f"{part:02d}" for part in parts]
    return SweepEntry("".join(texts), ":".join(texts))


def _number_entries(values: list[Decimal]) -> list[SweepEntry]:
    """Names with as many digits as the longest needs before and after the point."""
    plain = [value.normalize() + 0 for value in values]
    after = max(max(0, -int(value.as_tuple().exponent)) for value in plain)
    before = max(len(str(abs(int(value)))) for value in plain)
    width = before + (after + 1 if after else 0)
    entries = []
    for value in plain:
        digits = f"{abs(value):0{width}.{after}f}"
        entries.append(SweepEntry(("-" if value < 0 else "") + digits, f"{value:f}"))
    return entries


def same_value(text: str, value: str) -> bool:
    """Whether `text` says `value`, as 40 says 040 and 9:00 says 09:00."""
    if text == value:
        return True
    try:
        if ":" in value:
            return _seconds_of(text) == _seconds_of(value)
        return Decimal(text) == Decimal(value)
    except (InvalidOperation, ValueError):
        return False


def sweep_entries(raw: Any) -> list[SweepEntry]:
    """The entries of a sweep as it stands in the document; none where it is wrong."""
    try:
        return Sweep.model_validate(raw).entries()
    except ValueError:
        return []
