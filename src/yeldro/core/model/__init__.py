"""What the other stages speak about: tables, references, values, sets of keys."""
