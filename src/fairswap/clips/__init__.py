"""Operations on clips: each takes a clip and gives a new one."""
