"""Windows beside the main one."""
