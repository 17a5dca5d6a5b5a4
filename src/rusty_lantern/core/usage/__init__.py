"""How much is kept, under what, how it grows, and what that costs."""
