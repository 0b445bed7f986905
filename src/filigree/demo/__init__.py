"""The made-up stations of the Sallow Coast Tide Office, byte by byte in the real formats."""
