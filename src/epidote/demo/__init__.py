"""The demo scenario: the sound refit of a small planetarium, measured over stand-ins by the real procedures."""
