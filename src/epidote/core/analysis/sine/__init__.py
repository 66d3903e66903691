"""Sines: fits of one tone, two tones, many tones and stepped tones; hum beside them; limits of distortion."""
