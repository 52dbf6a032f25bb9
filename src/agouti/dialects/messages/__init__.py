"""The dialect `messages`: requests, replies, streams, and the server side."""
