"""Small DNS servers on loopback that stand in for the outside world, for the demo and the tests."""
