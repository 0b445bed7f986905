"""Images of containers: what describes them (OCI image specification, and what engines save)."""
