"""Tables of measurements that people have made: loads."""
