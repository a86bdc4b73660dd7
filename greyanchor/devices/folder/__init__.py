"""Devices that have programs of their own and are reached by folders: sheets go into one, readings come by
another.
"""

from greyanchor.devices.folder.driver import FolderDriver

driver = FolderDriver()
