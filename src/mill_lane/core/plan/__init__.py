"""Prediction and advice."""
