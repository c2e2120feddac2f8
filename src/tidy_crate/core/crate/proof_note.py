"""What the last proof of a crate came to, kept on the machine that proved it, so that later commands know it."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.crate.proving import Proof
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import read_json, write_json
from tidy_crate.core.model import Model, validated

_WHAT = "note of a proof"


class ProofNote(Model):
    """A proof, in short. It holds for the crate whose packing list has this digest, and for no other."""

    contents: str
    """Digest of the packing list of the crate that was proven."""
    whole: bool
    enforced: bool
    """True if the kernel denied every way out while it was tried."""
    frame: int | None
    """The test frame, None where none was rendered."""
    trouble: str
    """What is wrong with the test frame; empty where it is good or was not asked for."""
    began: bool
    """False if the renderer could not start at all, which says nothing about the crate."""
    when: datetime


def note_proof(note: Path, content: PackingList, proof: Proof, when: datetime) -> None:
    """Write down what a proof came to. when: with its zone."""
    tested = proof.test_frame
    found = ProofNote(
        contents=content.digest,
        whole=proof.whole,
        enforced=proof.enforced,
        frame=tested.frame if tested is not None else None,
        trouble=(tested.why or "it is not good") if tested is not None and not tested.good else "",
        began=tested is None or (tested.started and tested.usable),
        when=when,
    )
    write_json(note, found.model_dump(mode="json"))


def read_proof(note: Path) -> ProofNote | None:
    """Return the last proof that was noted, of whatever state of the crate; None where there is none."""
    try:
        return validated(ProofNote, read_json(note, _WHAT), _WHAT, note)
    except UnreadableInput:
        return None
