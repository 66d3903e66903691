"""Statistics of values over many units: spread, tolerance, capability, outliers, control charts, drift."""
