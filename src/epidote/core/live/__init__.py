"""What a live view computes: levels, spectra, waveforms, from sound that goes on and on."""
