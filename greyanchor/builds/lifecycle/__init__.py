"""From a frozen environment to a released mode: beginning, deciding, doing again, inheriting."""
