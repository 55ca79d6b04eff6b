"""Computation only: no web, no database, no clock, no global state.

Imports run downwards: plan -> trim, weigh -> devices, denoise -> render -> formats, image -> scene,
recipe.
"""
