"""Constants of distributions, by which a median tells the size of noise among outliers."""

NORMAL_MEDIAN = 0.6745  # median of |x| over the standard deviation of a normal x (its third quartile)
RAYLEIGH_MEDIAN = 1.177  # median of a Rayleigh variable over the deviation of one component: sqrt(2 ln 2)
