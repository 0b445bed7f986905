"""The rim towards the disk: the trees that every read goes through, and the workers that share them."""
