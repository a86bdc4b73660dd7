"""The Internet Printing Protocol: messages, a client, and the driver that prints through it."""
