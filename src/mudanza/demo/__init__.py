"""The made-up move of two veterinary clinics: its data, its plans, and the tour through it."""
