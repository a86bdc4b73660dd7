"""Ports to instruments and printers, and the stand-ins that are their first drivers.

A driver for a real device is one more class with the methods of `ports.PrinterPort` or
`ports.RowInstrumentPort` or
`ports.SheetInstrumentPort`.
"""
