"""Small tables beside rows: crosswalks, lookups, key books."""
