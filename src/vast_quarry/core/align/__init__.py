"""From matches to cameras: tracks, resection, triangulation, bundle adjustment, levelling."""
