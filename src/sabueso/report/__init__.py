"""What can be shown, as data, in the words and looks that every form shares."""
