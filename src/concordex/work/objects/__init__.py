"""Configuration objects: as systems hold them, as files, compared, prepared for writing."""
