"""From a picture to what each ink prints: device links, halftones, print files."""
