"""Grey Anchor: colour management for print rooms. The core computes, the apps keep and show."""
