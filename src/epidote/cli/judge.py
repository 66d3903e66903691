"""``compare claims`` and ``compare limits``: rows against published figures and against limits."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say
from epidote.cli.compare import Channel, runs_of_column
from epidote.cli.study import PathArgument, find_subject
from epidote.core.errors import SettingError
from epidote.core.results.channels import channel_key
from epidote.study.store import Study

NOT_MET = 5  # exit code


def claims(
    path: PathArgument,
    add: Annotated[
        list[str], typer.Option(help="add a claim as published, e.g. “SNR > 100 dB, A-weighted”; may be repeated")
    ] = [],
    import_: Annotated[
        Path | None, typer.Option("--import", help="add claims from a CSV file (columns claim, source)")
    ] = None,
    unit: Annotated[str, typer.Option(help="unit, by name or start of name; required with --add and --import")] = "",
    source: Annotated[str, typer.Option(help="source of the added claims")] = "",
    *,
    as_json: Json = False,
) -> int:
    """Add claims, and check all claims, or those of one unit, against the measurements."""
    from epidote.core.comparison.claims.parser import parse_claim
    from epidote.core.wording.verdicts import verdict_to_json, verdict_words
    from epidote.measurement.assessment import judged_claims
    from epidote.study.interchange.claims_csv import read_claims
    from epidote.study.models import Owner

    with Study(path) as study:
        texts = [(text, source) for text in add] + (read_claims(import_) if import_ is not None else [])
        units = [u for u in study.units() if u.name.casefold().startswith(unit.casefold())]
        if unit and not units:
            raise SettingError(f"No unit name starts with “{unit}”. Units: {', '.join(u.name for u in study.units())}.")
        if texts:
            if len(units) != 1:
                raise SettingError(
                    f"--unit “{unit}” matches {len(units)} units but must match one. Units:"
                    f" {', '.join(u.name for u in study.units())}."
                )
            understood = [(text, parse_claim(text, where or source)) for text, where in texts]
            unclear = [f"“{text}”: {found.words}" for text, found in understood if found.claim is None]
            if unclear:
                raise SettingError(f"Nothing was added. {' '.join(unclear)} Correct these claims.")
            claims = [
                found.claim.model_dump(mode="json", exclude_none=True)
                for _, found in understood
                if found.claim is not None
            ]
            study.entries.add_all("claim", claims, Owner(unit=units[0].id), study.person)
        seen = study.overview()
        names = {u.id: u.name for u in units}
        entries = [e for e in seen.of_kind("claim") if e.owner.unit in names]
        verdicts = judged_claims(study, seen, entries)
        owners = {e.id: names[e.owner.unit or 0] for e in entries}
    if as_json:
        print_json({"claims": [{"unit": owners[i], **verdict_to_json(v)} for i, v in verdicts.items()]})
    else:
        for i, v in verdicts.items():
            say(f"{owners[i]}: {v.claim.words}")
            say(f"  {verdict_words(v)}")
            if v.proposal is not None:
                say(
                    " ".join(
                        [
                            f"  To measure it: epidote measure {v.proposal.procedure}",
                            *(f"--set {k}={s}" for k, s in v.proposal.settings.items()),
                        ]
                    )
                )
    if any(v.outcome == "not met" for v in verdicts.values()):
        return NOT_MET
    return 0


def limits(
    path: PathArgument,
    around: Annotated[str, typer.Option(help="create limits around the curve of this row")] = "",
    procedure: Annotated[str, typer.Option(help="column for the new limits: procedure, title or number")] = "response",
    curve: Annotated[str, typer.Option(help="curve for the new limits")] = "level",
    db: Annotated[float, typer.Option(help="tolerance of --around, in dB")] = 1.0,
    *,
    good: Annotated[
        list[str], typer.Option(help="create limits from the scatter of these rows (at least three); may be repeated")
    ] = [],
    name: Annotated[str, typer.Option(help="name of the new limit")] = "limit",
    channel: Channel = 1,
    as_json: Json = False,
) -> int:
    """Create limits from a reference or from good units, and check every run against all limits."""
    from epidote.core.comparison.limits import around_curve as limits_around
    from epidote.core.comparison.limits import from_reference_units
    from epidote.core.procedures.registry import current_curve_key
    from epidote.core.wording.differences import limit_check_words
    from epidote.measurement.assessment import held_limits

    with Study(path) as study:
        if around or good:
            seen, column, runs = runs_of_column(study, procedure)
            procedure = column.procedure
            curve = current_curve_key(procedure, curve)
            chosen = [find_subject(study, n) for n in ([around] if around else good)]
            row_curves = [
                (
                    next((c for c in study.curves(runs[s.id].id, [curve]) if c.channel == channel), None)
                    if s.id in runs
                    else None
                )
                for s in chosen
            ]
            curves = [c for c in row_curves if c is not None]
            if len(curves) < len(chosen):
                raise SettingError(
                    f"Some of these rows have no curve “{curve}” of “{procedure}”. No limit was created; measure them"
                    " first, or leave them out."
                )
            if around:
                made = limits_around(name, procedure, curves[0], db, db, source=f"{chosen[0].full_name} ±{db:g} dB")
            else:
                made = from_reference_units(name, procedure, curves)
            study.entries.add("limit", made.model_dump(mode="json"), person=study.person)
        seen = study.overview()
        checks = []
        for (subject, _), run in seen.runs.items():
            row = seen.subject(subject)
            checks += [(row.full_name if row else "", held) for held in held_limits(study, seen, run)]
    if as_json:
        print_json(
            {
                "held": [
                    {
                        "subject": s,
                        "limit": h.limit.name,
                        "channel": channel_key(h.channel),
                        "passed": h.passed,
                        "margin": h.margin,
                        "at": h.at,
                        "side": h.side,
                    }
                    for s, h in checks
                ]
            }
        )
    else:
        for row_name, check in checks:
            say(f"{row_name}: {limit_check_words(check)}")
    if any(not h.passed for _, h in checks):
        return NOT_MET
    return 0
