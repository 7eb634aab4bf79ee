"""What a service does for its outposts: says what each is to serve, takes their records, and notices those that fall silent."""
