"""What leaves by itself: released modes into folders, and events to other programs."""
