"""What is subtracted from a device's reading, does that help, and for how long does it hold?"""
