"""The methods that prepare a study, by subject. Each returns a new study and adds to the trail."""
