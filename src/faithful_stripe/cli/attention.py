"""What needs attention, in words: shared by every view of a server."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from .render import Line, Part

if TYPE_CHECKING:
    from ..core.server.assess import Assessment


def finding_lines(judged: Assessment) -> list[Part]:
    """What needs attention, in words: the most dangerous first, with what to do about each."""
    from .verdicts import finding_words, step_words
    from .words import where_words

    seen = judged.server
    notes = [
        Line(f"Note      {where_words(seen, f.subject)}: {finding_words(seen, f)}.", "dim") for f in judged.notices
    ]
    if not judged.findings:
        return [Line("Nothing needs attention.", "good"), *notes]
    lines: list[Part] = []
    before = ""
    for f in judged.findings:
        severity = f.severity.value
        lines.append(Line(f"{severity:8}  {where_words(seen, f.subject)}: {finding_words(seen, f)}", severity))
        to_do = step_words(seen, f.step)
        lines.append(Line(f"          to do: {'the same' if to_do == before else to_do}"))
        before = to_do
    return [*lines, *notes]


def finding_documents(judged: Assessment) -> list[dict[str, Any]]:
    """The findings for `--json`: their codes and subjects, and the words beside them for whoever shows them."""
    from .verdicts import finding_words, step_words
    from .words import where_words

    seen = judged.server
    return [
        {
            "code": f.code.value,
            "severity": f.severity.value,
            "subject": {"kind": f.subject.kind, "name": f.subject.name, "path": f.subject.path},
            "step": f.step.code.value if f.step else None,
            "where": where_words(seen, f.subject),
            "what": finding_words(seen, f),
            "to_do": step_words(seen, f.step),
        }
        for f in (*judged.findings, *judged.notices)
    ]
