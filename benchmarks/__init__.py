"""Speed, memory and colour figures on this machine: `make bench`."""
