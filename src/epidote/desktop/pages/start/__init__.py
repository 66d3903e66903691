"""The start page: what to begin with, and the studies that were open last."""
