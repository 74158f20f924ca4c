"""How controllers differ in the wild. Each habit is a word for the lab's `habits`."""

from __future__ import annotations

HABITS = {
    "media-at-system": "virtual media is listed under the system instead of the manager",
    "etags": "a change must name the entity tag (428 without, 412 with an old one)",
    "tasks": "actions are answered with 202 and a task to be followed",
    "busy": "while power changes everything is answered with 503 and Retry-After",
    "pages": "collections come in pages of 2, with a link to the next",
    "short-sessions": "a session ends after 6 requests",
    "sessions-taken": "no session is left; each request must carry the login",
    "basic-only": "there are no sessions at all",
    "boot-mode": "the boot override must name the firmware's mode",
    "no-allowable": "no allowable values are listed",
    "strict-media": "inserting media refuses members other than the image",
    "transfer-protocol": "inserting media demands the transfer protocol",
    "change-media": "media is inserted by changing the slot; there are no actions",
    "second-slot": "there is a second virtual CD",
    "foreign-image": "an image that is not ours is inserted",
}
"""Habit → what it is, for people."""

FOREIGN_IMAGE = "https://10.44.0.7/images/rescue.iso"


def unknown(words: list[str]) -> list[str]:
    """Those of the words that are no habits."""
    return [word for word in words if word not in HABITS]
