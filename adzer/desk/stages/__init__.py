"""What each stage shows: a cell on the Board, a bench, instruments of its own."""
