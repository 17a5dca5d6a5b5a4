"""Figures, drawn by Matplotlib in one style: calm, labelled in words, legible in grey."""
