"""Figures of what is seen of a fleet, as SVG, PNG or PDF; told by shape and text beside colour."""
