"""The dialect `contents`: requests, replies, streams."""
