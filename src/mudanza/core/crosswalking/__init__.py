"""Crosswalks: small tables that translate source codes into target codes, and how they are kept."""
