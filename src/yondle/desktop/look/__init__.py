"""What stands in every place: colours and type, verdict marks, labels and buttons, cards, work by turns."""
