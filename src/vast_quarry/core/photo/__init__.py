"""Reading photos and what they say of themselves."""
