"""The dialect `chat`: requests, replies, streams, and the server side."""
