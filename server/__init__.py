"""The server of Oculum: records, permissions, API, processes."""
