"""The command for notices outward."""
