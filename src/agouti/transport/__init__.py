"""The only modules that open a connection: `sync` (urllib3) and `aio` (aiohttp), behind the protocols of `base`."""
