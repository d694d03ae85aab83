"""What labels and captions may say of a picture besides words of the plan."""

from __future__ import annotations

CAPTIONS = {
    "coordinates": "what it is of",
    "camera": "its camera",
    "value": "values of its axes that sweep a range",
    "frame": "its frame",
    "size": "pixels",
    "samples": "samples of each pixel",
    "noise": "relative error",
    "seconds": "how long its trace took",
    "memory": "the most memory that was held for it",
    "exposure": "stops",
}
FIGURES = ("frame", "size", "samples", "noise", "seconds", "memory", "exposure")

LABEL = ("coordinates", "frame", "samples", "seconds")
"""What a label says when no list is given."""
