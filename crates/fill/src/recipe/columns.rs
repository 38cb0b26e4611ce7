//! The columns that recipes name.

use kampf_schema::expr::Name;
use kampf_schema::{LogicalType, TableId};

use super::error::RecipeError;
use crate::others::Origin;

/// Who knows the columns that recipes name.
pub(crate) trait Columns {
    /// The column of a path and the kind of its values.
    fn origin(&self, path: &[Name]) -> Result<(Origin, LogicalType), RecipeError>;

    /// The reference by which rows are counted, and so stand in an order among those of one parent.
    fn counted_by(&self) -> Result<usize, RecipeError>;

    /// Whether the column that is made may be null.
    fn nullable(&self) -> bool;

    /// The table of a name whose rows are counted for each row of this one, and the reference by which they are.
    fn counted(&self, child: &Name) -> Result<(TableId, usize), RecipeError>;
}

/// For recipes that belong to no table.
pub(crate) struct NoColumns;

impl Columns for NoColumns {
    fn counted_by(&self) -> Result<usize, RecipeError> {
        let message = "there is no row here that could have others before it".to_owned();
        Err(RecipeError { message, hint: None, span: None })
    }

    fn nullable(&self) -> bool {
        false
    }

    fn counted(&self, child: &Name) -> Result<(TableId, usize), RecipeError> {
        self.origin(std::slice::from_ref(child)).map(|_| (TableId(0), 0))
    }

    fn origin(&self, path: &[Name]) -> Result<(Origin, LogicalType), RecipeError> {
        let error = RecipeError { message: "there is no row here whose columns could be named".to_owned(), hint: None, span: None };
        Err(RecipeError { span: path.first().map(|name| name.span), ..error })
    }
}
