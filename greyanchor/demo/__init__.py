"""The demo shop, made by the real engine through the stand-in devices."""
