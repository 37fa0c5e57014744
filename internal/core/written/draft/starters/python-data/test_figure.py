import unittest

import figure


class Hours(unittest.TestCase):
    def test_the_busiest_hours(self):
        counts = figure.by_hour()
        self.assertEqual(counts.sum(), 18)
        self.assertEqual(counts.max(), 7)


if __name__ == "__main__":
    unittest.main()
