"""A family of engines drawn at random, whose physics differ in kind: the judge of what the estimators claim."""
