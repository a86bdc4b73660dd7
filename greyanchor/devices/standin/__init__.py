"""Simulated devices: a printer and three readers computed by `core.simulation`, for demos, tests and
training.
"""

from greyanchor.devices.standin.driver import StandinDriver

driver = StandinDriver()
