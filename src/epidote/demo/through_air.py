"""The part of the dome refit that is heard through air, or played and recorded by units of their own clock."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any

from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.demo.rows import Row
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.request import RunPlan
from epidote.measurement.waiting import await_stimulus
from epidote.study.store import Study

_CALIBRATED = date(2026, 11, 24)
_PLACES = ("left ear", "right ear", "front", "back", "above", "shoulder")

SEAT = Chain(
    name="Dome microphones",
    rate=48000,
    inputs=(1, 2, 3, 4, 5, 6),
    input_names=_PLACES,
    output_full_scale=4.0,
    input_full_scale=1.0,
    microphone_sensitivities=(0.05,) * 6,
    microphone_serials=tuple(f"KM-{170 + n:04d}" for n in range(6)),
    calibrated_on=_CALIBRATED,
)
ROOM = Chain(
    name="Measuring room",
    rate=48000,
    input_names=("measuring, 1 m", "cheap, 1 m"),
    output_full_scale=4.0,
    input_full_scale=1.0,
    microphone_sensitivities=(0.05, 0.0),
    microphone_serials=("KM-0172", ""),
    calibrated_on=_CALIBRATED,
)
LINK = Chain(
    name="Wireless link",
    rate=48000,
    output_full_scale=4.0,
    input_full_scale=8.0,
    path_delay=2.0,
    calibrated_on=_CALIBRATED,
)

AIR_COLUMNS: Mapping[str, tuple[str, Mapping[str, Any]]] = {
    "seats": ("band-levels", {"duration": 8, "background": 2, "level": -20}),
    "gated": ("response", {"gate": "auto", "level": -20}),
    "rattle": ("impulsive-distortion", {"duration": 8, "level": "-6"}),
    "microphone": (
        "microphone",
        {"unit_channel": 2, "reference_channel": 1, "gate": "8ms", "start_frequency": 200, "noise_time": 3},
    ),
    "link": ("response", {"duration": 2, "level": -26}),
}
AIR_ROWS = (
    *(
        Row(
            "Havelmar",
            "Dome",
            {"seat": seat},
            "standin:havelmar-dome",
            ("seats",),
            "The dome itself, both loudspeakers on, six microphones about a head at each seat.",
            SEAT,
        )
        for seat in ("1", "3", "6", "8")
    ),
    Row(
        "Kelwin",
        "T2",
        {"state": "good"},
        "standin:kelwin-t2",
        ("gated", "rattle", "microphone"),
        "Control room monitors, on a stand before a wall. The second one buzzes.",
        ROOM,
    ),
    Row("Kelwin", "T2", {"state": "loose"}, "standin:kelwin-t2", ("gated", "rattle"), chain=ROOM),
    Row(
        "Landor",
        "W2",
        {"link": "wireless"},
        "standin:landor-w2",
        ("link", "music", "speech"),
        "Wireless receiver of the foyer: lossy coding, 1.45 s latency, own sample clock.",
        LINK.changed(rate=96000),
    ),
    Row(
        "Ebble",
        "R1",
        {"gain": "automatic"},
        "standin:ebble-r1",
        ("link",),
        "Field recorder of the education team: 16 kHz, automatic gain.",
        LINK,
    ),
    Row(
        "Merrick",
        "T1",
        {"plays": "after a command"},
        "standin:merrick-t1",
        (),
        "Talking player of the foyer. Its recording has not come back yet.",
        LINK,
    ),
)
_PLAYER = "T1"


def await_player(study: Study) -> None:
    """Let the talking player's cell wait for the recording of its stimulus file."""
    overview = study.overview()
    subject = next(s for s in overview.subjects if s.unit is not None and s.unit.model == _PLAYER)
    key, values = AIR_COLUMNS["link"]
    settings = make_settings(procedure(key).Settings, values)
    wanted = settings.model_dump(mode="json")
    column = next((c for c in overview.columns if c.procedure == key and dict(c.settings) == wanted), None)
    if column is None:
        return
    order = RunPlan(subject.id, column.id, key, settings, chain_for_subject(study, subject))
    await_stimulus(study, order, "foyer sweep.wav", "played by the foyer's player after its command")
