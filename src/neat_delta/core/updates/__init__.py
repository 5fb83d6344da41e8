"""From a change set to update files, and the proof that they do what they say."""
