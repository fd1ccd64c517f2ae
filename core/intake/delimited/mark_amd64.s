#include "textflag.h"
#include "go_asm.h"

// func markBlocks(into *uint64, data *byte, blocks int, delimiter byte) (odd uint32)
TEXT ·markBlocks(SB), NOSPLIT, $0-36
	MOVQ into+0(FP), DI
	MOVQ data+8(FP), SI
	MOVQ blocks+16(FP), CX
	VPBROADCASTB delimiter+24(FP), Y0
	VPXOR   Y3, Y3, Y3 // all bytes, one over the other
	VPCMPEQB Y4, Y4, Y4 // the least of them

next:
	VMOVDQU (SI), Y1
	VMOVDQU 32(SI), Y2
	VPOR    Y1, Y3, Y3
	VPOR    Y2, Y3, Y3
	VPMINUB Y1, Y4, Y4
	VPMINUB Y2, Y4, Y4
	VPCMPEQB Y1, Y0, Y1
	VPCMPEQB Y2, Y0, Y2
	VPMOVMSKB Y1, AX
	VPMOVMSKB Y2, BX
	SHLQ $32, BX
	ORQ  BX, AX
	MOVQ AX, (DI)
	ADDQ $64, SI
	ADDQ $8, DI
	DECQ CX
	JNZ  next

	VPXOR Y1, Y1, Y1
	VPCMPEQB Y1, Y4, Y4
	VPOR  Y4, Y3, Y3
	VPMOVMSKB Y3, AX // the top bits, which only bytes beyond ASCII have, and a least byte of 0
	MOVL AX, odd+32(FP)
	VZEROUPPER
	RET

// func splitPlain(s *splitting) (bytes uintptr)
//
// AX start of the cell    BX end of the record    CX cells still to come
// DX marks not used yet   SI where their block starts
// DI place of the token   R8 marks   R9 data   R10 the record   R11 inlineParts
// R12 place of the record's first token   R13 bytes from one token to the next
// R15 end of the cell     R14 scratch
TEXT ·splitPlain(SB), NOSPLIT, $0-16
	MOVQ s+0(FP), DI
	MOVQ splitting_marks(DI), R8
	MOVQ splitting_data(DI), R9
	MOVQ splitting_first(DI), R10
	MOVQ splitting_tokens(DI), R12
	MOVQ splitting_stride(DI), R13
	MOVQ splitting_parts(DI), R11

record:
	MOVQ s+0(FP), DI
	CMPQ R10, splitting_end(DI)
	JEQ  done
	CMPB span_form(R10), $0
	JNE  done
	MOVL span_start(R10), AX
	MOVL span_length(R10), BX
	CMPL BX, $const_cellLimit
	JAE  done
	ADDL AX, BX
	MOVBLZX -1(R9)(BX*1), R14 // the line end is no part of the last cell
	CMPB R14, splitting_lineEnd(DI)
	JNE  whole
	DECL BX

whole:
	CMPL BX, AX
	JEQ  bare
	CMPB -1(R9)(BX*1), $0x0D
	JNE  bare
	DECL BX

bare:
	MOVQ splitting_width(DI), CX
	MOVL AX, SI
	ANDL $~63, SI
	MOVL SI, R14
	SHRL $3, R14
	MOVQ (R8)(R14*1), DX
	SHRXQ AX, DX, DX // without the marks before the record
	SHLXQ AX, DX, DX
	MOVQ R12, DI

cell:
	TESTQ DX, DX
	JEQ   refill
	TZCNTQ DX, R15
	BLSRQ DX, DX
	ADDL SI, R15
	CMPL R15, BX
	JB   found
	MOVL BX, R15

found:
	MOVL R15, R14
	SUBL AX, R14
	CMPL R14, $const_longestInline
	JA   long
	SHLL $4, R14
	VMOVDQU (R9)(AX*1), X0
	VPAND (R11)(R14*1), X0, X0 // its bytes alone
	VPOR  256(R11)(R14*1), X0, X0 // and its length
	VMOVDQU X0, (DI)

next:
	CMPL R15, BX
	JEQ  last
	ADDQ R13, DI
	LEAL 1(R15), AX
	DECQ CX
	JNE  cell
	JMP  done // more cells than columns

last:
	CMPQ CX, $1
	JNE  done // fewer
	ADDQ $span__size, R10
	ADDQ $16, R12
	JMP  record

refill:
	ADDL $64, SI
	MOVL BX, R15
	CMPL SI, BX
	JAE  found
	MOVL SI, R14
	SHRL $3, R14
	MOVQ (R8)(R14*1), DX
	JMP  cell

long:
	MOVL R15, R14
	SHLQ $32, R14
	ORQ  AX, R14
	MOVQ R14, (DI)
	MOVQ 512(R11), R14 // of a token that tells a place
	MOVQ R14, 8(DI)
	JMP  next

done:
	MOVQ s+0(FP), DI
	SUBQ splitting_first(DI), R10
	MOVQ R10, bytes+8(FP)
	RET
