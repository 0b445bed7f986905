"""The rim towards the disk: the jail that every read goes through, and the workers that share them."""
