"""The heart: computation on arrays, without interface code."""
