"""The guide: pages that are written, and pages made from what the procedures and commands say of themselves."""
