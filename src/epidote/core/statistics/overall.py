"""Everything that is said of one reading over many units."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.errors import UnusableInputError
from epidote.core.signals.signal import Samples
from epidote.core.statistics.capability import Capability, capability
from epidote.core.statistics.control_chart import IndividualsChart, individuals_chart
from epidote.core.statistics.outliers import Outliers, generalised_esd
from epidote.core.statistics.proportion import Yield, yield_of
from epidote.core.statistics.relations import Drift, Histogram, NormalPlot, drift, histogram, normal_plot

_LEAST_SPAN = 1 / 24  # days


@dataclass(frozen=True, eq=False)
class ValueStatistics:
    """Of values (count,) in the order of measurement; s: None for a single value; days: their times, where known."""

    values: Samples
    days: Samples | None
    mean: float
    s: float | None
    lower: float | None
    upper: float | None
    within: Yield | None
    capability: Capability | None
    outliers: Outliers
    drift: Drift | None
    chart: IndividualsChart | None

    @property
    def span(self) -> float:
        """Days from the first to the last measurement; 0 where the times are not known."""
        return float(np.ptp(self.days)) if self.days is not None else 0.0

    @property
    def long_drift(self) -> Drift | None:
        """The drift where the measurements took an hour at least; of minutes, a rate says little of days."""
        return self.drift if self.span > _LEAST_SPAN else None

    @property
    def histogram(self) -> Histogram | None:
        return histogram(self.values)

    @property
    def normal_plot(self) -> NormalPlot | None:
        return normal_plot(self.values)


def value_statistics(
    values: Samples, days: Samples | None = None, lower: float | None = None, upper: float | None = None
) -> ValueStatistics:
    """Return the statistics of values, with respect to limits where there are any. Raises UnusableInputError for
    none.
    """
    if values.size == 0:
        raise UnusableInputError("No values for statistics. Measure units in this column first.")
    mean = float(values.mean())
    s = None
    if values.size > 1:
        s = float(values.std(ddof=1))
    return ValueStatistics(
        values,
        days,
        mean,
        s,
        lower,
        upper,
        _within(values, lower, upper),
        capability(mean, s or 0.0, values.size, lower, upper),
        generalised_esd(values),
        drift(days, values) if days is not None else None,
        individuals_chart(values),
    )


def _within(values: Samples, lower: float | None, upper: float | None) -> Yield | None:
    """Return how many values are within the limits; None without limits."""
    if lower is None and upper is None:
        return None
    good = np.ones(values.size, dtype=bool)
    if lower is not None:
        good &= values >= lower
    if upper is not None:
        good &= values <= upper
    return yield_of(int(good.sum()), values.size)
