"""A small physical model of a camera, a train, a panel and a sky, behind the same ports as real devices."""
