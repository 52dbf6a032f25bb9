"""The dialect `converse`: requests, replies, streams."""
