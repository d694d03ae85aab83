"""What each edit of a plan authors: one function a verb, `(draft, body, place)`.

Look edits write into the draft's current layer.  Structural edits are made by `structure`, each
into a layer of its own, before any of the others.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from grandlattice.errors import Place
from grandlattice.plan import PlacedEdit
from grandlattice.stage.edit_stage import Draft
from grandlattice.stage.edits import (
    assigning,
    attribute_values,
    structure,
    sun_aiming,
    transforms,
    visibility,
)

Author = Callable[[Draft, Any, Place], None]

STRUCTURE: dict[str, Author] = {
    "choose": structure.choose, "swap": structure.swap, "place": structure.place,
    "light": structure.light,
}  # fmt: skip
"""Of the structural verbs those that author a layer; `overlay` brings its own."""

LOOKS: dict[str, Author] = {
    "hide": visibility.hide, "show": visibility.show, "only": visibility.only,
    "matte": visibility.state("matte"), "unseen": visibility.state("unseen"),
    "catch": visibility.state("catch"), "assign": assigning.assign, "set": attribute_values.set_values,
    "multiply": attribute_values.multiply_values, "move": transforms.move, "turn": transforms.turn,
    "resize": transforms.resize, "move-to": transforms.move_to, "turn-to": transforms.turn_to,
    "spin": transforms.spin, "link": attribute_values.link, "sun": sun_aiming.sun,
}  # fmt: skip


def author(draft: Draft, placed: PlacedEdit) -> None:
    """Author one edit into the draft's current layer.

    Raises
    ------
    EditError
        When the edit cannot be laid over this scene.
    """
    draft.place = placed.place
    verb = placed.edit.verb
    (STRUCTURE.get(verb) or LOOKS[verb])(draft, placed.edit.body, placed.place)
