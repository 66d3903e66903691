"""Small widgets that several pages use."""
