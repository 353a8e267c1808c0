"""What one device may send in a minute. The broker keeps to it as well, so that it stands outside of Django."""

import os

MESSAGES_PER_MINUTE = int(os.environ.get("OCULUM_MESSAGES_PER_MINUTE", "600"))
BYTES_PER_MINUTE = int(os.environ.get("OCULUM_BYTES_PER_MINUTE", str(4 * 1024 * 1024)))
