import unittest

import board


class Day(unittest.TestCase):
    def test_every_species_is_on_the_page(self):
        page = board.app.test_client().get("/").get_data(as_text=True)
        for species, count in board.counts.items():
            self.assertIn(f"{species}: {count}", page)


if __name__ == "__main__":
    unittest.main()
