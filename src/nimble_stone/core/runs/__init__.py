"""What a run is: its states and moves, its document, its events and what is projected from them."""
