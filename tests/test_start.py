def test_nothing() -> None:
    pass
