"""Made-up sites that answer like real ones: for the demo, the tests, and for trying things out."""
