//go:build !purego

#include "go_asm.h"
#include "textflag.h"

// The unpacking of an LZMA chunk in assembler: see chunk_amd64.s, whose structure and labels are the same.

// Registers. The others are for all uses: R25 is mostly a probability, R24 the node of a tree, R23 its probabilities.
//
//	R1  the next byte of the input
//	R2  where the next byte goes
//	R3  range
//	R4  code
//	R5  the odds
//	R6  the state
//	R7  where R2 must come to
//	R8  the end of the input
//	R9  the position that bits of positions are counted from
//	R10 the first byte that matches may refer to
//	R12 the last distance, less one
//	R13 the one before it
//	R19 mask of the positions' bits
//	R20 mask of what chooses the literal coder
//	R21 the shift that makes an offset of the literal coder's number
//	R22 the position's bits; the length, once it is decoded

#define REP2 rep2-8(SP)
#define REP3 rep3-16(SP)
#define DICT dict-24(SP)

// NORMALIZE makes sure that the range has the bits for the next bit.
#define NORMALIZE(next) \
	LSRW    $24, R3, R16; \
	CBNZW   R16, next; \
	LSLW    $8, R3, R3; \
	MOVBU.P 1(R1), R16; \
	ORRW    R4<<8, R16, R4; \
next:

// BOUND computes the bound of the probability into R16.
#define BOUND \
	LSRW $11, R3, R16; \
	MULW R25, R16, R16

// MOVE chooses range and code by the bit, and leaves in the carry whether the bit is a one, and in R17 what the
// probability is then.
#define MOVE \
	SUBW  R16, R3, R3; \
	SUBSW R16, R4, R17; \
	CSELW HS, R3, R16, R3; \
	CSELW HS, R17, R4, R4; \
	SUBW  $2017, R25, R17; \
	CSELW HS, R25, R17, R17; \
	SUBW  R17->5, R25, R17

// BIT decodes a bit of the tree at R23, of node sym. R25 and next become those of the next node.
#define BIT(sym, next, label) \
	NORMALIZE(label); \
	BOUND; \
	ADD   sym<<2, R23, R0; \
	MOVHU (R0), R11; \
	MOVHU 2(R0), R0; \
	MOVE; \
	ADCW  sym, sym, next; \
	CSELW HS, R0, R11, R25; \
	MOVH  R17, (R23)(sym<<1)

// LASTBIT is BIT for the last bit of a tree.
#define LASTBIT(sym, next, label) \
	NORMALIZE(label); \
	BOUND; \
	MOVE; \
	ADCW sym, sym, next; \
	MOVH R17, (R23)(sym<<1)

// ROOT starts a tree at R23.
#define ROOT \
	MOVW  $1, R24; \
	MOVHU 2(R23), R25

// ALIGN decodes a bit of the tree at R23, the least significant first, which adds value to R14.
#define ALIGN(value, sym, next, label) \
	NORMALIZE(label); \
	BOUND; \
	ADD   sym<<2, R23, R0; \
	MOVHU (R0), R11; \
	MOVHU 2(R0), R0; \
	MOVE; \
	ADDW  $value, R14, R16; \
	CSELW HS, R16, R14, R14; \
	ADCW  sym, sym, next; \
	CSELW HS, R0, R11, R25; \
	MOVH  R17, (R23)(sym<<1)

// MATCHED decodes a bit of a literal after a match. R14 is the byte at the last distance, shifted by the bits before;
// R15 is 0x100 as long as its bits agree, and then 0. The node is R15 + (R14 & R15) + R24, R24 being that of a tree.
#define MATCHED(label) \
	ANDW  R14, R15, R11; \
	ADDW  R15, R11, R22; \
	ADDW  R24, R22, R22; \
	LSLW  $1, R14, R14; \
	EORW  R11, R15, R15; \
	NORMALIZE(label); \
	BOUND; \
	ANDW  R14, R15, R26; \
	ADDW  R15, R26, R26; \
	ADDW  R24<<1, R26, R26; \
	MOVHU (R23)(R26<<1), R26; \
	ANDW  R14, R11, R0; \
	ADDW  R11, R0, R0; \
	ADDW  R24<<1, R0, R0; \
	ADDW  $1, R0, R0; \
	MOVHU (R23)(R0<<1), R0; \
	MOVE; \
	CSELW HS, R11, R15, R15; \
	ADCW  R24, R24, R24; \
	CSELW HS, R0, R26, R25; \
	MOVH  R17, (R23)(R22<<1)

// BRANCH decodes a bit that is worth a branch, of the probability at place, and goes to one, or on with a zero.
#define BRANCH(place, label, one) \
	MOVHU place, R25; \
	NORMALIZE(label); \
	BOUND; \
	CMPW  R16, R4; \
	BHS   one; \
	MOVW  R16, R3; \
	MOVW  $2048, R17; \
	SUBW  R25, R17, R17; \
	ADDW  R17>>5, R25, R25; \
	MOVH  R25, place

// ONE is what follows a one of BRANCH.
#define ONE(place) \
	SUBW R16, R3, R3; \
	SUBW R16, R4, R4; \
	SUBW R25>>5, R25, R25; \
	MOVH R25, place

// STATE chooses the next state: before for a state below 7, else after.
#define STATE(before, after) \
	CMPW  $7, R6; \
	MOVW  $before, R6; \
	MOVW  $after, R17; \
	CSELW HS, R17, R6, R6

// func kernel(z *lzma2, size, limit int) bool
TEXT ·kernel(SB), NOSPLIT, $24-25
	MOVD  z+0(FP), R0
	MOVD  $(lzma2_model+model_odds), R5
	ADD   R0, R5
	MOVD  $(lzma2_model+model_rep0), R23
	ADD   R0, R23
	MOVD  (model_rep0-model_rep0)(R23), R12
	MOVD  (model_rep1-model_rep0)(R23), R13
	MOVD  (model_rep2-model_rep0)(R23), R14
	MOVD  R14, REP2
	MOVD  (model_rep3-model_rep0)(R23), R14
	MOVD  R14, REP3
	MOVD  (model_state-model_rep0)(R23), R6
	MOVD  (model_pbMask-model_rep0)(R23), R19
	MOVD  (model_lpMask-model_rep0)(R23), R20
	MOVD  (model_lc-model_rep0)(R23), R21
	MOVD  $lzma2_window, R23
	ADD   R0, R23
	MOVD  (R23), R2
	MOVD  (lzma2_low-lzma2_window)(R23), R10
	ADD   R2, R10
	MOVD  (lzma2_base-lzma2_window)(R23), R9
	ADD   R2, R9
	MOVD  (lzma2_dict-lzma2_window)(R23), R14
	MOVD  R14, DICT
	MOVD  limit+16(FP), R7
	ADD   R2, R7
	MOVD  (lzma2_pos-lzma2_window)(R23), R14
	ADD   R14, R2
	MOVD  $lzma2_input, R1
	ADD   R0, R1
	MOVD  size+8(FP), R8
	ADD   R1, R8

	// the literal coder is (position<<8 | last byte) & R20, where lc bits of the byte and lp of the position are
	// left, << R21: a coder has 2048 bytes
	ADD  $1, R20
	LSL  $8, R20
	MOVW $0x100, R14
	LSRW R21, R14, R14
	SUB  R14, R20
	ADD  $3, R21

	MOVW $-1, R3
	MOVW 1(R1), R4
	REVW R4, R4
	CMPW R3, R4
	BHS  bad
	ADD  $5, R1

symbol:
	CMP  R7, R2
	BHS  done
	CMP  R8, R1
	BHI  bad
	SUBW R9, R2, R24
	ANDW R19, R24, R22
	ADDW R6<<4, R22, R23
	ADD  R23<<1, R5, R23
	ADD  $odds_isMatch, R23
	BRANCH((R23), symbol1, match)

	// a literal
	MOVBU -1(R2), R17
	ADDW  R24<<8, R17, R24
	ANDW  R20, R24, R24
	LSLW  R21, R24, R24
	ADD   R24, R5, R23
	ADD   $odds_literal, R23
	CMPW  $7, R6
	BHS   matched
	SUBSW $3, R6, R6
	CSELW HS, R6, ZR, R6
	ROOT
	BIT(R24, R26, literal1)
	BIT(R26, R24, literal2)
	BIT(R24, R26, literal3)
	BIT(R26, R24, literal4)
	BIT(R24, R26, literal5)
	BIT(R26, R24, literal6)
	BIT(R24, R26, literal7)
	LASTBIT(R26, R24, literal8)
	MOVB.P R24, 1(R2)
	B      symbol

matched:
	SUB   R12, R2, R17
	MOVBU -1(R17), R14
	SUBW  $3, R6, R16
	SUBW  $6, R6, R17
	CMPW  $10, R6
	CSELW HS, R17, R16, R6
	LSLW  $1, R14, R14
	MOVW  $0x100, R15
	ANDW  R14, R15, R25
	ADD   R25<<1, R23, R25
	MOVHU 0x202(R25), R25
	MOVW  $1, R24
	MATCHED(matched1)
	MATCHED(matched2)
	MATCHED(matched3)
	MATCHED(matched4)
	MATCHED(matched5)
	MATCHED(matched6)
	MATCHED(matched7)
	MATCHED(matched8)
	MOVB.P R24, 1(R2)
	B      symbol

match:
	ONE((R23))
	ADD  R6<<1, R5, R23
	ADD  $odds_isRep, R23
	BRANCH((R23), match1, again)
	MOVD REP2, R14
	MOVD R14, REP3
	MOVD R13, REP2
	MOVD R12, R13
	STATE(7, 10)

	// its length
	MOVD $odds_match, R23
	ADD  R5, R23
	BRANCH(lengths_choice(R23), length1, matchLong)
	ADD  R22<<4, R23, R23
	ADD  $lengths_low, R23
	MOVW $-6, R14

matchTree:
	ROOT
	BIT(R24, R26, length2)
	BIT(R26, R24, length3)
	LASTBIT(R24, R26, length4)
	ADDW R14, R26, R22
	B    slot

matchLong:
	ONE(lengths_choice(R23))
	BRANCH(lengths_choice2(R23), length5, matchLongest)
	ADD  R22<<4, R23, R23
	ADD  $lengths_mid, R23
	MOVW $2, R14
	B    matchTree

matchLongest:
	ONE(lengths_choice2(R23))
	ADD  $lengths_high, R23
	ROOT
	BIT(R24, R26, length6)
	BIT(R26, R24, length7)
	BIT(R24, R26, length8)
	BIT(R26, R24, length9)
	BIT(R24, R26, length10)
	BIT(R26, R24, length11)
	BIT(R24, R26, length12)
	LASTBIT(R26, R24, length13)
	SUBW $238, R24, R22

	// its distance
slot:
	SUBW  $2, R22, R14
	MOVW  $3, R17
	CMPW  R17, R14
	CSELW HI, R17, R14, R14
	ADD   R14<<7, R5, R23
	ADD   $odds_slot, R23
	ROOT
	BIT(R24, R26, slot1)
	BIT(R26, R24, slot2)
	BIT(R24, R26, slot3)
	BIT(R26, R24, slot4)
	BIT(R24, R26, slot5)
	LASTBIT(R26, R24, slot6)
	SUBW  $64, R24, R24
	MOVWU R24, R12
	CMPW  $4, R24
	BLO   copy
	LSRW  $1, R24, R15
	SUBW  $1, R15, R15
	ANDW  $1, R24, R14
	ORRW  $2, R14, R14
	CMPW  $14, R24
	BHS   direct

	// its low bits, 1 to 5, have odds of their own
	LSLW R15, R14, R14
	SUBW R24, R14, R23
	ADD  R23<<1, R5, R23
	ADD  $odds_special, R23
	MOVW $1, R24
	MOVW $1, R26

special:
	MOVHU (R23)(R24<<1), R25
	NORMALIZE(special1)
	BOUND
	MOVE
	ADDW  R26, R14, R16
	CSELW HS, R16, R14, R14
	MOVH  R17, (R23)(R24<<1)
	ADCW  R24, R24, R24
	LSLW  $1, R26, R26
	SUBW  $1, R15, R15
	CBNZW R15, special
	B     far

	// its middle bits have even odds
direct:
	SUBW $4, R15, R15

direct1:
	NORMALIZE(direct2)
	LSRW  $1, R3, R3
	SUBSW R3, R4, R17
	CSELW HS, R17, R4, R4
	ADCW  R14, R14, R14
	SUBW  $1, R15, R15
	CBNZW R15, direct1
	LSLW  $4, R14, R14
	MOVD  $odds_align, R23
	ADD   R5, R23
	ROOT
	ALIGN(1, R24, R26, align1)
	ALIGN(2, R26, R24, align2)
	ALIGN(4, R24, R26, align3)
	NORMALIZE(align4)
	BOUND
	MOVE
	ADDW  $8, R14, R16
	CSELW HS, R16, R14, R14
	MOVH  R17, (R23)(R26<<1)

far:
	MOVWU R14, R12
	MOVD  DICT, R17
	CMP   R17, R12
	BHS   bad

	// copy R22 bytes from a distance of R12 + 1
copy:
	SUB   R10, R2, R17
	CMP   R17, R12
	BHS   bad
	MOVWU R22, R22
	SUB   R2, R7, R17
	CMP   R17, R22
	BHI   bad
	SUB   R12, R2, R23
	SUB   $1, R23
	ADD   R22, R2, R15
	CMP   $15, R12
	BLO   near

copy16:
	LDP.P 16(R23), (R24, R25)
	STP.P (R24, R25), 16(R2)
	CMP   R15, R2
	BLO   copy16
	MOVD  R15, R2
	B     symbol

near:
	CMP  $7, R12
	BHS  copy8
	CBZ  R12, run

	// it repeats itself within 8 bytes: 8 by themselves, the rest from a multiple of the distance that is 8 or more
	MOVW $8, R17

copy1:
	MOVBU.P 1(R23), R24
	MOVB.P  R24, 1(R2)
	CMP     R15, R2
	BHS     symbol
	SUBW    $1, R17, R17
	CBNZW   R17, copy1
	MOVD    $·repeats(SB), R23
	MOVBU   (R23)(R12), R17
	SUB     R17, R2, R23

copy8:
	MOVD.P 8(R23), R24
	MOVD.P R24, 8(R2)
	CMP    R15, R2
	BLO    copy8
	MOVD   R15, R2
	B      symbol

	// one byte again and again
run:
	MOVBU (R23), R24
	MOVD  $0x0101010101010101, R25
	MUL   R25, R24, R24

run16:
	STP.P (R24, R24), 16(R2)
	CMP   R15, R2
	BLO   run16
	MOVD  R15, R2
	B     symbol

	// a match at one of the last distances
again:
	ONE((R23))
	ADD  R6<<1, R5, R15
	BRANCH(odds_isRepG0(R15), again1, again01)
	ADDW R6<<4, R22, R23
	ADD  R23<<1, R5, R23
	ADD  $odds_isRep0Long, R23
	BRANCH((R23), again2, rep0Long)

	// of one byte, at the last
	STATE(9, 11)
	SUB    R10, R2, R17
	CMP    R17, R12
	BHS    bad
	SUB    R12, R2, R23
	MOVBU  -1(R23), R24
	MOVB.P R24, 1(R2)
	B      symbol

rep0Long:
	ONE((R23))
	B    repLength

again01:
	ONE(odds_isRepG0(R15))
	BRANCH(odds_isRepG1(R15), again3, again23)
	MOVD R13, R14
	B    rep1

again23:
	ONE(odds_isRepG1(R15))
	BRANCH(odds_isRepG2(R15), again4, rep3)
	MOVD REP2, R14
	B    rep2

rep3:
	ONE(odds_isRepG2(R15))
	MOVD REP3, R14
	MOVD REP2, R17
	MOVD R17, REP3

rep2:
	MOVD R13, REP2

rep1:
	MOVD R12, R13
	MOVD R14, R12

repLength:
	STATE(8, 11)
	MOVD $odds_rep, R23
	ADD  R5, R23
	BRANCH(lengths_choice(R23), rep4, repLong)
	ADD  R22<<4, R23, R23
	ADD  $lengths_low, R23
	MOVW $-6, R14

repTree:
	ROOT
	BIT(R24, R26, rep5)
	BIT(R26, R24, rep6)
	LASTBIT(R24, R26, rep7)
	ADDW R14, R26, R22
	B    copy

repLong:
	ONE(lengths_choice(R23))
	BRANCH(lengths_choice2(R23), rep8, repLongest)
	ADD  R22<<4, R23, R23
	ADD  $lengths_mid, R23
	MOVW $2, R14
	B    repTree

repLongest:
	ONE(lengths_choice2(R23))
	ADD  $lengths_high, R23
	ROOT
	BIT(R24, R26, rep9)
	BIT(R26, R24, rep10)
	BIT(R24, R26, rep11)
	BIT(R26, R24, rep12)
	BIT(R24, R26, rep13)
	BIT(R26, R24, rep14)
	BIT(R24, R26, rep15)
	LASTBIT(R26, R24, rep16)
	SUBW $238, R24, R22
	B    copy

done:
	NORMALIZE(done1)
	CBNZW R4, bad
	CMP   R8, R1
	BNE   bad
	MOVD  z+0(FP), R0
	MOVD  $lzma2_window, R23
	ADD   R0, R23
	MOVD  (R23), R14
	SUB   R14, R2
	MOVD  R2, (lzma2_pos-lzma2_window)(R23)
	MOVD  $(lzma2_model+model_rep0), R23
	ADD   R0, R23
	MOVD  R12, (model_rep0-model_rep0)(R23)
	MOVD  R13, (model_rep1-model_rep0)(R23)
	MOVD  REP2, R14
	MOVD  R14, (model_rep2-model_rep0)(R23)
	MOVD  REP3, R14
	MOVD  R14, (model_rep3-model_rep0)(R23)
	MOVWU R6, R6
	MOVD  R6, (model_state-model_rep0)(R23)
	MOVD  $1, R0
	MOVB  R0, ret+24(FP)
	RET

bad:
	MOVB ZR, ret+24(FP)
	RET
