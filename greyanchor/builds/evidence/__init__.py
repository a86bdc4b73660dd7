"""What stages are decided on: charts and what was computed from them, by reading and by eye."""
