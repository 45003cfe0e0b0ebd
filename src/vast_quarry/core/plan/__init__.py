"""Planning: from subject, camera and overlap to stations."""
