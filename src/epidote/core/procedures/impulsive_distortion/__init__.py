"""Impulsive distortion: rubbing, buzzing and loose parts."""
