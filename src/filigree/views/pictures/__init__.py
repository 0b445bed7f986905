"""Pictures of graphs, and the open formats that other programs draw from."""
