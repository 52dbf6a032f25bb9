"""Wire formats: one pure module each. `registry` finds them by name."""
