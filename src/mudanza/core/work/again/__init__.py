"""Doing it again: what a build is to the target, which holds what was handed over before."""
