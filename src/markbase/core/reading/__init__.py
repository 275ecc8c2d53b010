"""From estimates to what they mean: equations and sentences."""
