"""The forward model of a print environment, device -> Lab: a physical prior and a smooth residual."""
