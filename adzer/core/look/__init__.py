"""Looking at footage: sampling its frames, following a thing."""
