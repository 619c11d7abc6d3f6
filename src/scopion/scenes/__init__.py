"""Made-up sites that answer like real ones: for the demo, the tests, and for trying things out."""

# Marks a folder as a made-up site's. It is here, so that looking for it loads nothing.
STORY_FILE = "story.json"
