"""From plain data to a charter, collecting every fault on the way."""
