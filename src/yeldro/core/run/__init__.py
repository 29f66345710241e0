"""A run: what it would touch, its plan, its statements, and the proof of what it did."""
