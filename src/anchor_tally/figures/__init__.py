"""What a figure shows (info) and its ink (draw)."""
