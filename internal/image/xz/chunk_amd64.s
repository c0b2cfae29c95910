//go:build !purego

#include "go_asm.h"
#include "textflag.h"

// The unpacking of an LZMA chunk in assembler. It does what chunkPlain does, in the same order, and is compared with
// it by FuzzLZMA2 and TestKernel; chunk.go is the place to read first. What it gains over the compiler:
//
//   - range and code move by conditional moves, which Go's compiler does not make where the result is an index;
//   - both probabilities that may come next are loaded before the bit is known, and chosen by it;
//   - what is used at each bit is in registers, and the input and the window need no checks: the input is longer than
//     a symbol may run over its end, which is looked at once a symbol, and window positions are compared as in Go.
//
// Nothing in here is newer than SSE2.

// Registers. AX, BX, DX, R12 to R15, CX within matches, and X0 are for all uses.
//
//	SI  the next byte of the input
//	DI  where the next byte goes
//	R8  range
//	R9  code
//	R10 the odds
//	R11 the state
//	CX  the shift that makes an offset of the literal coder's number

#define LIMIT    limit-8(SP)
#define INEND    inEnd-16(SP)
#define BASE     base-24(SP)
#define LOW      low-32(SP)
#define DICT     dict-40(SP)
#define REP0     rep0-48(SP)
#define REP1     rep1-56(SP)
#define REP2     rep2-64(SP)
#define REP3     rep3-72(SP)
#define PBMASK   pbMask-80(SP)
#define LITMASK  litMask-88(SP)
#define LITSHIFT litShift-96(SP)
#define POSSTATE posState-104(SP)
#define LENGTH   length-112(SP)
#define STATE    state-120(SP)
#define HERE     here-128(SP)

// NORMALIZE makes sure that the range has the bits for the next bit.
#define NORMALIZE(next) \
	CMPL    R8, $0x1000000; \
	JHS     next; \
	SHLL    $8, R8; \
	SHLL    $8, R9; \
	MOVBLZX (SI), BX; \
	INCQ    SI; \
	ORL     BX, R9; \
next:

// BOUND computes the bound of probability p into BX.
#define BOUND(p) \
	MOVL  R8, BX; \
	SHRL  $11, BX; \
	IMULL p, BX

// MOVE chooses range and code by the bit, and leaves in the carry whether the bit is a zero, and in DX what the
// probability p must lose times 32: p for a one, p-2017 for a zero, as in chunk.go.
#define MOVE(p) \
	MOVL    R9, DX; \
	SUBL    BX, R8; \
	SUBL    BX, DX; \
	CMOVLCC DX, R9; \
	CMOVLCS BX, R8; \
	LEAL    -2017(p), DX; \
	CMOVLCC p, DX

// LEARN moves the probability p by what is in DX.
#define LEARN(p, place) \
	SARL $5, DX; \
	SUBL DX, p; \
	MOVW p, place

// BIT decodes a bit of the tree at R13. p is the probability of node sym; next and p1 become those of the next node.
#define BIT(p, sym, next, p1, label) \
	NORMALIZE(label); \
	BOUND(p); \
	MOVWLZX (R13)(sym*4), next; \
	MOVWLZX 2(R13)(sym*4), p1; \
	MOVE(p); \
	CMOVLCS next, p1; \
	LEAL    1(sym)(sym*1), next; \
	SBBL    $0, next; \
	LEARN(p, (R13)(sym*2))

// LASTBIT is BIT for the last bit of a tree, in AX and R12.
#define LASTBIT(p, sym, next, label) \
	NORMALIZE(label); \
	BOUND(p); \
	MOVE(p); \
	LEAL    1(sym)(sym*1), next; \
	SBBL    $0, next; \
	LEARN(p, (R13)(sym*2))

// ROOT starts a tree at R13.
#define ROOT \
	MOVL    $1, R12; \
	MOVWLZX 2(R13), AX

// ALIGN decodes a bit of the tree at R13, the least significant first, which adds value to R14.
#define ALIGN(value, p, sym, next, p1, label) \
	NORMALIZE(label); \
	BOUND(p); \
	MOVWLZX (R13)(sym*4), next; \
	MOVWLZX 2(R13)(sym*4), p1; \
	MOVE(p); \
	LEAL    value(R14), BX; \
	CMOVLCC BX, R14; \
	CMOVLCS next, p1; \
	LEAL    1(sym)(sym*1), next; \
	SBBL    $0, next; \
	LEARN(p, (R13)(sym*2))

// MATCHED decodes a bit of a literal after a match. CX is the byte at the last distance, shifted by the bits before;
// R14 is 0x100 as long as its bits agree, and then 0. The node is R14 + (CX & R14) + R12, R12 being that of a tree. What
// R14 will be is in R11 for a one, and in R14 for a zero.
#define MATCHED(p, p1, label) \
	MOVL    CX, R11; \
	ANDL    R14, R11; \
	LEAL    (R14)(R11*1), R15; \
	ADDL    R12, R15; \
	ADDL    CX, CX; \
	XORL    R11, R14; \
	NORMALIZE(label); \
	BOUND(p); \
	MOVL    CX, R10; \
	ANDL    R14, R10; \
	ADDL    R14, R10; \
	LEAL    (R10)(R12*2), R10; \
	MOVWLZX (R13)(R10*2), R10; \
	MOVL    CX, p1; \
	ANDL    R11, p1; \
	ADDL    R11, p1; \
	LEAL    (p1)(R12*2), p1; \
	MOVWLZX 2(R13)(p1*2), p1; \
	MOVE(p); \
	CMOVLCC R11, R14; \
	CMOVLCS R10, p1; \
	LEAL    1(R12)(R12*1), R12; \
	SBBL    $0, R12; \
	LEARN(p, (R13)(R15*2))

// BRANCH decodes a bit that is worth a branch, of the probability at place, and goes to one, or on with a zero.
#define BRANCH(place, label, one) \
	MOVWLZX place, AX; \
	NORMALIZE(label); \
	BOUND(AX); \
	CMPL    R9, BX; \
	JHS     one; \
	MOVL    BX, R8; \
	MOVL    $2048, DX; \
	SUBL    AX, DX; \
	SHRL    $5, DX; \
	ADDL    DX, AX; \
	MOVW    AX, place

// ONE is what follows a one of BRANCH.
#define ONE(place) \
	SUBL BX, R8; \
	SUBL BX, R9; \
	MOVL AX, DX; \
	SHRL $5, DX; \
	SUBL DX, AX; \
	MOVW AX, place

// func kernel(z *lzma2, size, limit int) bool
TEXT ·kernel(SB), NOSPLIT, $128-25
	MOVQ  z+0(FP), BX
	LEAQ  (lzma2_model+model_odds)(BX), R10
	MOVQ  (lzma2_model+model_rep0)(BX), AX
	MOVQ  AX, REP0
	MOVQ  (lzma2_model+model_rep1)(BX), AX
	MOVQ  AX, REP1
	MOVQ  (lzma2_model+model_rep2)(BX), AX
	MOVQ  AX, REP2
	MOVQ  (lzma2_model+model_rep3)(BX), AX
	MOVQ  AX, REP3
	MOVQ  (lzma2_model+model_state)(BX), R11
	MOVQ  (lzma2_model+model_pbMask)(BX), AX
	MOVQ  AX, PBMASK
	MOVQ  lzma2_dict(BX), AX
	MOVQ  AX, DICT
	MOVQ  lzma2_window(BX), DI
	MOVQ  lzma2_low(BX), AX
	ADDQ  DI, AX
	MOVQ  AX, LOW
	MOVQ  lzma2_base(BX), AX
	ADDQ  DI, AX
	MOVQ  AX, BASE
	MOVQ  limit+16(FP), AX
	ADDQ  DI, AX
	MOVQ  AX, LIMIT
	ADDQ  lzma2_pos(BX), DI
	LEAQ  lzma2_input(BX), SI
	MOVQ  size+8(FP), AX
	ADDQ  SI, AX
	MOVQ  AX, INEND

	// the literal coder is (position<<8 | last byte) & litMask, where lc bits of the byte and lp of the position are
	// left, << litShift: a coder has 2048 bytes
	MOVQ (lzma2_model+model_lpMask)(BX), AX
	INCQ AX
	SHLQ $8, AX
	MOVQ (lzma2_model+model_lc)(BX), CX
	MOVL $0x100, DX
	SHRL CX, DX
	SUBQ DX, AX
	MOVQ AX, LITMASK
	ADDQ $3, CX
	MOVQ CX, LITSHIFT

	MOVL   $0xFFFFFFFF, R8
	MOVL   1(SI), R9
	BSWAPL R9
	CMPL   R9, R8
	JHS    bad
	ADDQ   $5, SI

symbol:
	CMPQ DI, LIMIT
	JHS  done
	CMPQ SI, INEND
	JHI  bad
	MOVL DI, R12
	SUBL BASE, R12
	MOVL R12, R13
	ANDL PBMASK, R13
	MOVL R13, POSSTATE
	MOVL R11, DX
	SHLL $4, DX
	ADDL DX, R13
	LEAQ odds_isMatch(R10)(R13*2), R13
	BRANCH((R13), symbol1, match)

	// a literal
	SHLL    $8, R12
	MOVBLZX -1(DI), DX
	ADDL    DX, R12
	ANDL    LITMASK, R12
	SHLL    CX, R12
	LEAQ    odds_literal(R10)(R12*1), R13
	CMPL    R11, $7
	JHS     matched
	XORL    DX, DX
	SUBL    $3, R11
	CMOVLCS DX, R11
	ROOT
	BIT(AX, R12, R14, R15, literal1)
	BIT(R15, R14, R12, AX, literal2)
	BIT(AX, R12, R14, R15, literal3)
	BIT(R15, R14, R12, AX, literal4)
	BIT(AX, R12, R14, R15, literal5)
	BIT(R15, R14, R12, AX, literal6)
	BIT(AX, R12, R14, R15, literal7)
	LASTBIT(R15, R14, R12, literal8)
	MOVB    R12, (DI)
	INCQ    DI
	JMP     symbol

matched:
	MOVQ    REP0, DX
	NOTQ    DX
	MOVBLZX (DI)(DX*1), CX
	CMPL    R11, $10
	LEAL    -3(R11), DX
	LEAL    -6(R11), R11
	CMOVLCS DX, R11
	MOVL    R11, STATE
	MOVQ    DI, HERE
	ADDL    CX, CX
	MOVL    $0x100, R14
	MOVL    R14, AX
	ANDL    CX, AX
	MOVWLZX 0x202(R13)(AX*2), AX
	MOVL    $1, R12
	MATCHED(AX, DI, matched1)
	MATCHED(DI, AX, matched2)
	MATCHED(AX, DI, matched3)
	MATCHED(DI, AX, matched4)
	MATCHED(AX, DI, matched5)
	MATCHED(DI, AX, matched6)
	MATCHED(AX, DI, matched7)
	MATCHED(DI, AX, matched8)
	MOVQ    HERE, DI
	MOVB    R12, (DI)
	INCQ    DI
	MOVQ    LITSHIFT, CX
	MOVL    STATE, R11
	MOVQ    z+0(FP), R10
	LEAQ    (lzma2_model+model_odds)(R10), R10
	JMP     symbol

match:
	ONE((R13))
	BRANCH(odds_isRep(R10)(R11*2), match1, again)
	MOVQ    REP2, AX
	MOVQ    AX, REP3
	MOVQ    REP1, AX
	MOVQ    AX, REP2
	MOVQ    REP0, AX
	MOVQ    AX, REP1
	CMPL    R11, $7
	MOVL    $7, R11
	MOVL    $10, DX
	CMOVLCC DX, R11

	// its length
	LEAQ    odds_match(R10), R13
	BRANCH(lengths_choice(R13), length1, matchLong)
	MOVL    POSSTATE, DX
	SHLL    $4, DX
	LEAQ    lengths_low(R13)(DX*1), R13
	MOVL    $-6, CX

matchTree:
	ROOT
	BIT(AX, R12, R14, R15, length2)
	BIT(R15, R14, R12, AX, length3)
	LASTBIT(AX, R12, R14, length4)
	ADDL    CX, R14
	MOVL    R14, LENGTH
	JMP     slot

matchLong:
	ONE(lengths_choice(R13))
	BRANCH(lengths_choice2(R13), length5, matchLongest)
	MOVL    POSSTATE, DX
	SHLL    $4, DX
	LEAQ    lengths_mid(R13)(DX*1), R13
	MOVL    $2, CX
	JMP     matchTree

matchLongest:
	ONE(lengths_choice2(R13))
	ADDQ    $lengths_high, R13
	ROOT
	BIT(AX, R12, R14, R15, length6)
	BIT(R15, R14, R12, AX, length7)
	BIT(AX, R12, R14, R15, length8)
	BIT(R15, R14, R12, AX, length9)
	BIT(AX, R12, R14, R15, length10)
	BIT(R15, R14, R12, AX, length11)
	BIT(AX, R12, R14, R15, length12)
	LASTBIT(R15, R14, R12, length13)
	LEAL    -238(R12), R14
	MOVL    R14, LENGTH

	// its distance
slot:
	SUBL    $2, R14
	MOVL    $3, DX
	CMPL    R14, DX
	CMOVLHI DX, R14
	SHLL    $7, R14
	LEAQ    odds_slot(R10)(R14*1), R13
	ROOT
	BIT(AX, R12, R14, R15, slot1)
	BIT(R15, R14, R12, AX, slot2)
	BIT(AX, R12, R14, R15, slot3)
	BIT(R15, R14, R12, AX, slot4)
	BIT(AX, R12, R14, R15, slot5)
	LASTBIT(R15, R14, R12, slot6)
	SUBL    $64, R12
	MOVL    R12, R14
	CMPL    R12, $4
	JLO     distance
	MOVL    R12, CX
	SHRL    $1, CX
	DECL    CX
	ANDL    $1, R14
	ORL     $2, R14
	CMPL    R12, $14
	JHS     direct

	// its low bits, 1 to 5, have odds of their own
	SHLL    CX, R14
	MOVL    R14, R13
	SUBL    R12, R13
	LEAQ    odds_special(R10)(R13*2), R13
	MOVL    $1, R12
	MOVL    $1, R15

special:
	MOVWLZX (R13)(R12*2), AX
	NORMALIZE(special1)
	BOUND(AX)
	MOVE(AX)
	LEAL    (R14)(R15*1), BX
	CMOVLCC BX, R14
	LEAL    1(R12)(R12*1), BX
	SBBL    $0, BX
	LEARN(AX, (R13)(R12*2))
	MOVL    BX, R12
	ADDL    R15, R15
	DECL    CX
	JNZ     special
	JMP     far

	// its middle bits have even odds
direct:
	SUBL    $4, CX

direct1:
	NORMALIZE(direct2)
	SHRL    $1, R8
	MOVL    R9, DX
	SUBL    R8, DX
	CMOVLCC DX, R9
	LEAL    1(R14)(R14*1), R14
	SBBL    $0, R14
	DECL    CX
	JNZ     direct1
	SHLL    $4, R14
	LEAQ    odds_align(R10), R13
	MOVL    $1, R12
	MOVWLZX 2(R13), AX
	ALIGN(1, AX, R12, CX, R15, align1)
	ALIGN(2, R15, CX, R12, AX, align2)
	ALIGN(4, AX, R12, CX, R15, align3)
	NORMALIZE(align4)
	BOUND(R15)
	MOVE(R15)
	LEAL    8(R14), BX
	CMOVLCC BX, R14
	LEARN(R15, (R13)(CX*2))

far:
	CMPQ    R14, DICT
	JHS     bad

distance:
	MOVQ    R14, REP0
	MOVL    LENGTH, R12

	// copy R12 bytes from a distance of R14 + 1
copy:
	MOVQ    DI, DX
	SUBQ    LOW, DX
	CMPQ    R14, DX
	JHS     bad
	MOVQ    LIMIT, DX
	SUBQ    DI, DX
	CMPQ    R12, DX
	JHI     bad
	MOVQ    LITSHIFT, CX
	MOVQ    DI, R13
	SUBQ    R14, R13
	DECQ    R13
	LEAQ    (DI)(R12*1), R15
	CMPQ    R14, $15
	JLO     near

copy16:
	MOVOU   (R13), X0
	MOVOU   X0, (DI)
	ADDQ    $16, R13
	ADDQ    $16, DI
	CMPQ    DI, R15
	JLO     copy16
	MOVQ    R15, DI
	JMP     symbol

near:
	CMPQ    R14, $7
	JHS     copy8
	TESTQ   R14, R14
	JZ      run

	// it repeats itself within 8 bytes: 8 by themselves, the rest from a multiple of the distance that is 8 or more
	MOVL    $8, DX

copy1:
	MOVB    (R13), AX
	MOVB    AX, (DI)
	INCQ    R13
	INCQ    DI
	CMPQ    DI, R15
	JHS     symbol
	DECL    DX
	JNZ     copy1
	LEAQ    ·repeats(SB), R13
	MOVBLZX (R13)(R14*1), DX
	MOVQ    DI, R13
	SUBQ    DX, R13

copy8:
	MOVQ    (R13), AX
	MOVQ    AX, (DI)
	ADDQ    $8, R13
	ADDQ    $8, DI
	CMPQ    DI, R15
	JLO     copy8
	MOVQ    R15, DI
	JMP     symbol

	// one byte again and again
run:
	MOVBLZX (R13), AX
	MOVQ    $0x0101010101010101, DX
	IMULQ   DX, AX
	MOVQ    AX, X0
	PUNPCKLQDQ X0, X0

run16:
	MOVOU   X0, (DI)
	ADDQ    $16, DI
	CMPQ    DI, R15
	JLO     run16
	MOVQ    R15, DI
	JMP     symbol

	// a match at one of the last distances
again:
	ONE(odds_isRep(R10)(R11*2))
	BRANCH(odds_isRepG0(R10)(R11*2), again1, again01)
	MOVL    R11, R13
	SHLL    $4, R13
	ADDL    POSSTATE, R13
	LEAQ    odds_isRep0Long(R10)(R13*2), R13
	BRANCH((R13), again2, rep0Long)

	// of one byte, at the last
	CMPL    R11, $7
	MOVL    $9, R11
	MOVL    $11, DX
	CMOVLCC DX, R11
	MOVQ    REP0, R14
	MOVQ    DI, DX
	SUBQ    LOW, DX
	CMPQ    R14, DX
	JHS     bad
	NOTQ    R14
	MOVB    (DI)(R14*1), AX
	MOVB    AX, (DI)
	INCQ    DI
	JMP     symbol

rep0Long:
	ONE((R13))
	JMP     repLength

again01:
	ONE(odds_isRepG0(R10)(R11*2))
	BRANCH(odds_isRepG1(R10)(R11*2), again3, again23)
	MOVQ    REP1, AX
	JMP     rep1

again23:
	ONE(odds_isRepG1(R10)(R11*2))
	BRANCH(odds_isRepG2(R10)(R11*2), again4, rep3)
	MOVQ    REP2, AX
	JMP     rep2

rep3:
	ONE(odds_isRepG2(R10)(R11*2))
	MOVQ    REP3, AX
	MOVQ    REP2, DX
	MOVQ    DX, REP3

rep2:
	MOVQ    REP1, DX
	MOVQ    DX, REP2

rep1:
	MOVQ    REP0, DX
	MOVQ    DX, REP1
	MOVQ    AX, REP0

repLength:
	CMPL    R11, $7
	MOVL    $8, R11
	MOVL    $11, DX
	CMOVLCC DX, R11
	LEAQ    odds_rep(R10), R13
	BRANCH(lengths_choice(R13), rep4, repLong)
	MOVL    POSSTATE, DX
	SHLL    $4, DX
	LEAQ    lengths_low(R13)(DX*1), R13
	MOVL    $-6, CX

repTree:
	ROOT
	BIT(AX, R12, R14, R15, rep5)
	BIT(R15, R14, R12, AX, rep6)
	LASTBIT(AX, R12, R14, rep7)
	LEAL    (R14)(CX*1), R12
	MOVQ    REP0, R14
	JMP     copy

repLong:
	ONE(lengths_choice(R13))
	BRANCH(lengths_choice2(R13), rep8, repLongest)
	MOVL    POSSTATE, DX
	SHLL    $4, DX
	LEAQ    lengths_mid(R13)(DX*1), R13
	MOVL    $2, CX
	JMP     repTree

repLongest:
	ONE(lengths_choice2(R13))
	ADDQ    $lengths_high, R13
	ROOT
	BIT(AX, R12, R14, R15, rep9)
	BIT(R15, R14, R12, AX, rep10)
	BIT(AX, R12, R14, R15, rep11)
	BIT(R15, R14, R12, AX, rep12)
	BIT(AX, R12, R14, R15, rep13)
	BIT(R15, R14, R12, AX, rep14)
	BIT(AX, R12, R14, R15, rep15)
	LASTBIT(R15, R14, R12, rep16)
	SUBL    $238, R12
	MOVQ    REP0, R14
	JMP     copy

done:
	NORMALIZE(done1)
	TESTL   R9, R9
	JNZ     bad
	CMPQ    SI, INEND
	JNE     bad
	MOVQ    z+0(FP), BX
	SUBQ    lzma2_window(BX), DI
	MOVQ    DI, lzma2_pos(BX)
	MOVQ    REP0, AX
	MOVQ    AX, (lzma2_model+model_rep0)(BX)
	MOVQ    REP1, AX
	MOVQ    AX, (lzma2_model+model_rep1)(BX)
	MOVQ    REP2, AX
	MOVQ    AX, (lzma2_model+model_rep2)(BX)
	MOVQ    REP3, AX
	MOVQ    AX, (lzma2_model+model_rep3)(BX)
	MOVQ    R11, (lzma2_model+model_state)(BX)
	MOVB    $1, ret+24(FP)
	RET

bad:
	MOVB    $0, ret+24(FP)
	RET
