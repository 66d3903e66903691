"""Listening tests from measured programme: clips that differ in nothing but the unit, sealed keys, answers."""
