"""How well does a device agree with the reference, with itself and with others?

One module for each view of Compare.
"""
