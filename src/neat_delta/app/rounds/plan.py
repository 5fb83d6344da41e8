"""What a round file would do, with what, from where, in words."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from neat_delta.app.outputs import PlannedStep
from neat_delta.app.rounds.file import RoundFile
from neat_delta.app.settings import Request, settings_of
from neat_delta.files.delivery import spelled
from neat_delta.files.sources.address import is_address, parse
from neat_delta.report.settings import as_options

__all__ = ["plan_of"]


def plan_of(file: RoundFile) -> list[PlannedStep]:
    """The steps of a round, in their order."""
    at = file.at
    steps = [PlannedStep("fetch", f"live from {_place(file, at.live)}", _fetching(file))]
    for sheet in file.sheets:
        what = _place(file, sheet.at.file) if sheet.at.file else f"rules on live ({sheet.at.rules or 'set'})"
        named = [
            f"{name} {value}"
            for name, value in (("mapping", sheet.at.mapping), ("rules", sheet.at.rules), ("base", sheet.at.base))
            if value
        ]
        steps.append(PlannedStep("compare", what, [*named, *_stated(sheet.asked)]))
    together = [f"codes {at.codes}"] if at.codes else []
    if len(file.sheets) > 1:
        words = {"hold": "is held", "first": "is the first sheet's", "last": "is the last sheet's"}
        together.append(f"a cell of which two sheets say different things {words[at.overlap]}")
    if together or list(_stated(file.compare)):
        steps.append(PlannedStep("compare", "all of them", [*together, *_stated(file.compare)]))
    if at.sign_off.wanted:
        where = at.sign_off.answers or "answers, in the round's folder"
        steps.append(PlannedStep("sign off", f"wait for {at.sign_off.reviewers} file(s) of answers in {where}"))
    steps.append(PlannedStep("stop", "before anything is delivered, when", _stops(file)))
    proven = "proven by replay" + (", and rehearsed in a practice store" if at.rehearse else "")
    steps.append(PlannedStep("write", f"update and undo files, {proven}", list(_stated(file.write))))
    to = [spelled(field_info if is_address(field_info) else file.place(field_info)) for field_info in at.deliver.to]
    steps.append(PlannedStep("deliver", f"to {', '.join(to)}" if to else "by hand: [deliver] says no address"))
    reports = f", and {', '.join(at.confirm.results)}" if at.confirm.results else ""
    steps.append(
        PlannedStep("confirm", as_options(f"with ‹confirm›: by {_place(file, at.confirm.after or at.live)}{reports}"))
    )
    hearers = [f"mail to {', '.join(at.tell.to)}"] if at.tell.smtp and at.tell.to else []
    hearers += [f"JSON to {_place(file, at.tell.url)}"] if at.tell.url else []
    if hearers:
        steps.append(PlannedStep("tell", "; ".join(hearers), [f"when: {', '.join(at.tell.on)}"]))
    keep = at.keep if isinstance(at.keep, str) else f"{at.keep} rounds"
    steps.append(PlannedStep("keep", f"in {file.ledger.folder}, what went in for {keep}"))
    return steps


def _place(file: RoundFile, name: str) -> str:
    return parse(name).masked if is_address(name) else file.place(name)


def _fetching(file: RoundFile) -> list[str]:
    limits = file.at.limits
    lines = [f"refused where it is older than {limits.older_than}"] if limits.older_than else []
    return lines + ([f"by the store file {file.store_path}"] if file.store_path else ["by no store file"])


def _stated(request: Request) -> Iterable[str]:
    """The settings that are said."""
    for name in settings_of(type(request)):
        value = getattr(request, name)
        if value not in (None, (), {}, False) and value != _default(type(request), name):
            yield f"{name} {_words(value)}"


def _default(kind: type[Request], name: str) -> object:
    return next(field_info.default for field_info in msgspec.structs.fields(kind) if field_info.name == name)


def _words(value: object) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{name} = {text}" if name else str(text) for name, text in value.items())
    return ", ".join(map(str, value)) if isinstance(value, tuple) else str(value)


def _stops(file: RoundFile) -> list[str]:
    """What stops a round."""
    limits = file.at.limits
    lines = ["a source is empty", f"a source has {limits.smaller} % fewer rows than the last time, or fewer still"]
    lines += ["a source is the same as the last time"] if limits.unchanged == "stop" else []
    lines += ["anything is held"] if limits.held == "stop" else []
    lines += [f"more than {limits.most_items:,} items change"] if limits.most_items is not None else []
    lines += [f"more than {limits.most_percent} % of all items change"] if limits.most_percent is not None else []
    for what, most in (("sum", limits.price_sum), ("median", limits.price_median)):
        lines += [f"the {what} of prices moves by more than {most} %"] if most is not None else []
    return lines
