"""The stand-in printer, media and instrument. Builders of profiles never look in here."""
