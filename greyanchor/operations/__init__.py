"""Backup, restore, export, and the processes behind the commands."""
