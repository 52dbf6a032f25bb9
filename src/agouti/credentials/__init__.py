"""Keys: where they live (`sources`), how they are got (`fetch`), which one is used next (`rotation`)."""
