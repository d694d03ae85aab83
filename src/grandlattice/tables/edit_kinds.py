"""Every edit of a plan by its verb: when it is authored, and whether it replaces what was there.

What stands behind the verb in a plan is its model in `plan.edit_verbs`; what it authors is a function of
`stage.edits`.  Both are bound by the verb, and a test proves that they are complete.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class EditKind(NamedTuple):
    """An edit.

    Attributes
    ----------
    verb : as plans have it.
    is_structural : whether it composes before any selection of the others is evaluated.
    replaces : whether a later edit of the same value leaves nothing of an earlier one; `explain` and the
        check of rival axes ask for it.
    """

    verb: str
    is_structural: bool = False
    replaces: bool = True


EDIT_KINDS: Mapping[str, EditKind] = {
    each.verb: each
    for each in (
        EditKind("overlay", is_structural=True, replaces=False),
        EditKind("choose", is_structural=True),
        EditKind("swap", is_structural=True),
        EditKind("place", is_structural=True, replaces=False),
        EditKind("light", is_structural=True, replaces=False),
        EditKind("hide"),
        EditKind("show"),
        EditKind("only"),
        EditKind("matte"),
        EditKind("unseen"),
        EditKind("catch"),
        EditKind("assign"),
        EditKind("set"),
        EditKind("multiply", replaces=False),
        EditKind("move", replaces=False),
        EditKind("turn", replaces=False),
        EditKind("resize", replaces=False),
        EditKind("move-to"),
        EditKind("turn-to"),
        EditKind("spin", replaces=False),
        EditKind("link"),
        EditKind("sun"),
    )
}
