"""What the hub of outposts stores: who they are, what each is to serve, and rollouts over them."""
