package api

import (
	"context"

	"nivot/internal/engine"
	"nivot/internal/store"
)

func (s *Server) toPiece(ctx context.Context, p *store.Piece, uses map[string][]engine.PieceUse) (Piece, error) {
	core, err := p.Core()
	if err != nil {
		return Piece{}, err
	}
	core.ID = ""
	out := Piece{Id: p.ID, Name: p.Name, Version: int(p.Version), Content: *core, UsedBy: []PieceUse{}}
	for _, u := range uses[p.ID] {
		out.UsedBy = append(out.UsedBy, PieceUse{Sheet: u.Sheet, Template: u.Template, Name: u.Name})
	}
	return out, nil
}

// ListPieces implements StrictServerInterface.
func (s *Server) ListPieces(ctx context.Context, _ ListPiecesRequestObject) (ListPiecesResponseObject, error) {
	list, err := s.st.Pieces(ctx)
	if err != nil {
		return nil, err
	}
	uses, err := s.e.PieceUses(ctx, s.st)
	if err != nil {
		return nil, err
	}
	out := ListPieces200JSONResponse{}
	for i := range list {
		p, err := s.toPiece(ctx, &list[i], uses)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

func (s *Server) savePiece(ctx context.Context, id string, b *PieceSave) (Piece, error) {
	version := int64(0)
	if b.Version != nil {
		version = int64(*b.Version)
	}
	rec, err := s.e.SavePiece(ctx, id, &b.Piece, version, person(ctx).Name)
	if err != nil {
		return Piece{}, err
	}
	uses, err := s.e.PieceUses(ctx, s.st)
	if err != nil {
		return Piece{}, err
	}
	return s.toPiece(ctx, rec, uses)
}

// AddPiece implements StrictServerInterface.
func (s *Server) AddPiece(ctx context.Context, r AddPieceRequestObject) (AddPieceResponseObject, error) {
	out, err := s.savePiece(ctx, "", r.Body)
	return AddPiece201JSONResponse(out), err
}

// SavePiece implements StrictServerInterface.
func (s *Server) SavePiece(ctx context.Context, r SavePieceRequestObject) (SavePieceResponseObject, error) {
	out, err := s.savePiece(ctx, r.Piece, r.Body)
	return SavePiece200JSONResponse(out), err
}

// DeletePiece implements StrictServerInterface.
func (s *Server) DeletePiece(ctx context.Context, r DeletePieceRequestObject) (DeletePieceResponseObject, error) {
	return DeletePiece204Response{}, s.e.DeletePiece(ctx, r.Piece, person(ctx).Name)
}
