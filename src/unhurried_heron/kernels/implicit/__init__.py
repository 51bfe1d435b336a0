"""What the marches of all implicit families share: Newton, Jacobian and factors kept or renewed, growth, scales."""
