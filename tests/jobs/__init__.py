"""Tests of the services."""
