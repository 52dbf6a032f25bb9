"""The ledger: what every attempt has taken and cost, kept beside the calls."""
