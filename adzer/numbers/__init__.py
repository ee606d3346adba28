"""What ``./run bench`` measures; it writes docs/numbers.md."""
