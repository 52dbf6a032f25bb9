"""The dialect `responses`: requests, replies, streams, and the server side."""
