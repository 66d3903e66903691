"""Delays: correlation, clock offset, tracking, onsets, two arrivals, comparison of paths."""
