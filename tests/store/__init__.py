"""Tests of what is kept."""
