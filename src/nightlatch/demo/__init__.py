"""The sample estate: the tide-gauge station Skerry Point, with four folder guests, each with a story."""
