"""A microphone as the unit: response, sensitivity, self-noise, highest level and polarity."""
