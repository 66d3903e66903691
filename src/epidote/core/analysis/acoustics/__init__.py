"""Sound in rooms and from loudspeakers: bands, gates, decays, defects."""
