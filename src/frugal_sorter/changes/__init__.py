"""How the disk is changed: by descriptor, under leases, without clobbering; the verbs are made of this."""
