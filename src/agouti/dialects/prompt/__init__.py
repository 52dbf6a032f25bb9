"""The dialect `prompt`: requests and replies, and the server side."""
