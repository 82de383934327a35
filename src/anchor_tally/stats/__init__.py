"""Statistics: arrays in, frozen estimates out."""
