"""What was seen before: records in the user's state folder, what is other than then, and how it went over time."""
