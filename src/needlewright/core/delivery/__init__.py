"""Handing over: guards on the destination, safe names, the bag and its lists."""
