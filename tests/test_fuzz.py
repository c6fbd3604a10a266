"""Some mangled files for each reader; ``make fuzz`` runs as many as are wanted, CI fifty for each."""

import pytest

import fairswap
from fuzz.judging import judged
from fuzz.readers import READERS

SEED, CASES = 7, 25


@pytest.mark.parametrize("reader", READERS, ids=lambda reader: reader.name)
@pytest.mark.long(but=7)
def test_mangled_files_are_read_or_refused_but_never_break_us(reader):
    broken = {number: told for number in range(CASES) if (told := judged(reader, reader.case(SEED, number)))}
    assert not broken


def test_the_judge_of_the_readers_tells_what_is_wrong():
    """A reader that fails and one that says too much are told; a good one is not."""

    class Chatty(fairswap.InputError):
        def __str__(self):
            return "x" * 500

    def raising(error):
        def use(path):
            raise error

        return use

    good = READERS[0]
    assert judged(good._replace(use=raising(KeyError("x"))), b"x").startswith("KeyError")
    assert "500 letters" in judged(good._replace(use=raising(Chatty("x"))), b"x")
    assert not judged(good._replace(use=raising(fairswap.InputError("it is cut"))), b"x")
    assert not judged(good, good.contents()[0])
