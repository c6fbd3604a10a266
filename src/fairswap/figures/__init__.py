"""Operations on figures: one file each, a value in and a new one out."""
