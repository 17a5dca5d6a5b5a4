"""What changed between surveys, who did it, and how drift went."""
